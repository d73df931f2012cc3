"""Sending domains: audits, batches of audits, proofs, relays."""
