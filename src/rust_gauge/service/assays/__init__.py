"""Assays: one message examined for a tenant, with DNS as the service sees it."""
