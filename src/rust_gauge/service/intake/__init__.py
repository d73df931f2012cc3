"""Taking events in: reading rows, names, and one transaction for all that follows."""
