"""The Lookout: runs watched from elsewhere, in a browser."""
