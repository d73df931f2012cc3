"""What changed, told to open pages as it happens."""
