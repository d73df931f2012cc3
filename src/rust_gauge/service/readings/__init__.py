"""Reputation: computing readings, the wall, what changed, forecasts, lines, settings."""
