"""How the installation itself fares, beside its tenants: the disk that it writes to, and parts that were restarted."""

import json
import shutil
import time
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

from rust_gauge.service.runtime.settings import Settings
from rust_gauge.store.engine import StoreUnavailable

WATCH_DISK, STOP_DISK = 0.85, 0.95  # shares in use: at the first it is an item, at the second intake stops
_FRESH = 2.0  # seconds that a look at the disk is good for: intake asks for each load
_NEWEST = 200_000  # octets of the log of restarts that are read


@dataclass(frozen=True, slots=True)
class DiskUse:
    """A disk: `used` is a share of it, `free` octets."""

    path: Path
    used: float
    free: int


@dataclass(frozen=True, slots=True)
class Restart:
    """A part that was started again. `failures`: how often in a row it had died."""

    part: str
    at: datetime
    failures: int


def disk_use(settings: Settings) -> DiskUse:
    """Return how full the disk of `var_dir` is, where the private database lies too."""
    path = settings.var_dir if settings.var_dir.exists() else Path()
    usage = shutil.disk_usage(path)
    # Not `used / total`: what is reserved for root cannot be used by the database either.
    return DiskUse(path.resolve(), 1 - usage.free / max(1, usage.used + usage.free), usage.free)


def require_room(settings: Settings, memory: dict[Any, Any]) -> None:
    """StoreUnavailable when the disk is nearly full: loads stop cleanly before the database does."""
    at, used = memory.get("disk", (0.0, 0.0))
    if time.monotonic() - at > _FRESH:
        used = disk_use(settings).used
        memory["disk"] = (time.monotonic(), used)
    if used >= STOP_DISK:
        raise StoreUnavailable(
            f"The disk of the service is {used:.0%} full", remedy="Nothing was stored. Free space on it, then retry"
        )


def restarts(settings: Settings, since: datetime | None = None) -> list[Restart]:
    """Return the restarts since a time, oldest first, as far as the end of their log goes back; all without a time."""
    path = settings.var_dir / "log" / "restarts.ndjson"
    try:
        with path.open("rb") as file:
            file.seek(max(0, path.stat().st_size - _NEWEST) if since is not None else 0)
            lines = file.read().decode("utf-8", "replace").splitlines()
    except OSError:
        return []
    found = []
    for line in lines:
        try:
            document = json.loads(line)
            restart = Restart(
                str(document["part"]), datetime.fromisoformat(document["at"]), int(document.get("failures", 1))
            )
        except (ValueError, KeyError, TypeError):  # cut off where the reading began, or by a full disk
            continue
        if since is None or restart.at >= since:
            found.append(restart)
    return found
