"""What happened to mail: events, flow per provider, causes and rules, shifts, retention."""
