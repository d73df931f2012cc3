"""Search over everything that has a name."""
