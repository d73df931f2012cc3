"""The outside, one module a protocol. Foreign errors are translated here; nothing of a library's leaks out."""
