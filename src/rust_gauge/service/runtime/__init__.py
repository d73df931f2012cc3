"""What every capability works with: settings, the context, secrets, logs."""
