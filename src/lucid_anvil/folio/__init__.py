"""Reports and certificates from findings."""
