"""Values of the core as documents of the contract. Both the service and audits without one speak through here."""
