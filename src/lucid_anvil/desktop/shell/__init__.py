"""The window itself, its beginning, help, finder and demo."""
