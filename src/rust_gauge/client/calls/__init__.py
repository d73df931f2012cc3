"""Every call of the API as a value, a module for each part of the client."""
