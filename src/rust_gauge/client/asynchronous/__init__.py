"""The asynchronous client: `client` carries calls out, the other modules are its parts."""
