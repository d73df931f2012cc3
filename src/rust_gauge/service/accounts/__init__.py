"""Signing in, sessions, tokens, people and their roles."""
