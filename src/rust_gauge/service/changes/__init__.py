"""What changed, sent to open pages as it happens."""
