"""Tables, migrations and queries: the only place with SQL. Gives core and plain values to the service, not rows."""
