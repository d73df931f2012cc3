"""The first hour: what is set up, and what is next."""
