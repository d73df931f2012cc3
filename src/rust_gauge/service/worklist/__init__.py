"""What to do next: detection, items, notifications, reports."""
