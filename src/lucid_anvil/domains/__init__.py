"""Fields of work, one folder each; independent of one another, found through entry points."""
