"""When to retry a request, and after how long (seconds)."""

import random

import httpx

ATTEMPTS = 4  # enough for a service that restarts behind a proxy
_TRY_LATER = {429, 502, 503, 504}
_LONGEST = 20.0  # seconds, even when Retry-After asks for longer: a person is waiting


def pause_before(attempt: int, response: httpx.Response | None) -> float:
    """Return the seconds to wait after attempt number `attempt` (from 1): what the service asks for, else doubling."""
    asked = response.headers.get("retry-after", "") if response is not None else ""
    if asked.isdigit():
        return min(_LONGEST, float(asked))
    return min(_LONGEST, 0.2 * 2.0**attempt) * (0.5 + random.random() / 2)  # noqa: S311 - no secret


def worth_repeating(response: httpx.Response) -> bool:
    """Return whether a response asks the client to retry later."""
    return response.status_code in _TRY_LATER
