"""The kinds of test there are: one file a method."""
