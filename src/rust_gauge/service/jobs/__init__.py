"""Work that takes long, done apart from requests by worker processes of which there can be any number."""
