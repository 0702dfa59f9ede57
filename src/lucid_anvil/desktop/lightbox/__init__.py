"""The Lightbox: records looked at, listened to, compared."""
