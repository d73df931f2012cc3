"""What a person may do in a tenant. Each role may do what the one before it may."""

from enum import StrEnum


class Role(StrEnum):
    """Roles, the weakest first."""

    VIEWER = "viewer"  # reads
    OPERATOR = "operator"  # works: audits, worklist, suppression, feeds
    ADMIN = "admin"  # changes settings, policies, secrets and people

    def allows(self, needed: "Role") -> bool:
        """Tell whether somebody with this role may do what needs `needed`."""
        ranks = list(Role)
        return ranks.index(self) >= ranks.index(needed)
