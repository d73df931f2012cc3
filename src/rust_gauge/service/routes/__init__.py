"""HTTP in front of the use cases: each route translates a request, calls one use case and gives its result."""
