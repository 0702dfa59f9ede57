"""What goes between faces, conductor and keeper. Plain data, JSON on the wire."""
