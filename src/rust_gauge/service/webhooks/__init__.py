"""Signed calls to programs of the tenant, retried until they arrive."""
