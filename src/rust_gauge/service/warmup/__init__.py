"""Warm-up: plans with ceilings that grow, how each provider holds them back, and what they let through now."""
