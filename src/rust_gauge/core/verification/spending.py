"""What a budget allows. Money is counted in millionths of a currency unit, in whole numbers."""

from decimal import ROUND_HALF_UP, Decimal

MICRO = 1_000_000


def to_micros(amount: Decimal | float | str) -> int:
    """Return an amount in millionths, half of one rounded up."""
    return int((Decimal(str(amount)) * MICRO).quantize(Decimal(1), ROUND_HALF_UP))


def from_micros(micros: int) -> float:
    """Return an amount from millionths."""
    return micros / MICRO


def affordable(
    wanted: int, price: int, *, spent_today: int, spent_month: int, per_day: int | None, per_month: int | None
) -> int:
    """Return how many checks of this price may still be made; all of them where they cost nothing."""
    if price <= 0:
        return wanted
    left = [
        budget - spent for budget, spent in ((per_day, spent_today), (per_month, spent_month)) if budget is not None
    ]
    return max(0, min(wanted, min(left) // price)) if left else wanted
