"""Record plans, their propagation, and publishing them by dynamic update."""
