"""Outside verifiers of addresses: asked only where own checks leave something open, within budgets, never twice."""
