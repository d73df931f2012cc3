"""The application: one module per capability (its use cases), `routes/` (thin), `jobs/` (the worker)."""
