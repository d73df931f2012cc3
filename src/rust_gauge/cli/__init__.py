"""The command line `rustgauge`: talks to the service through the client library, and knows the contract only."""
