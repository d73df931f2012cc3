"""Placement: seeds, outlets, and runs that send copies and look for them."""
