"""What the domain shows in the window; loaded only by it."""
