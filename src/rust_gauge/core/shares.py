"""Shares of a whole as text."""


def percent(share: float, digits: int = 2) -> str:
    """Return a fraction as a percentage with so many decimals: 0.0425 is "4.25 %"."""
    return f"{share * 100:.{digits}f} %"
