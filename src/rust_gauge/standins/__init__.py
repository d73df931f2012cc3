"""Small simulated outsiders for the demo and the tests. Nothing here is meant to face a network."""
