"""The synchronous client: `client` carries calls out, the other modules are its parts."""

# Made from `asynchronous` by tools/sync_client.py: change that one.
