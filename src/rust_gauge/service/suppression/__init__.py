"""The suppression list: entries, policy, imports, matching, address checks."""
