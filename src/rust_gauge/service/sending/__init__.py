"""Sending limits of relays: how far they are used, when they were hit, and what they let through now."""
