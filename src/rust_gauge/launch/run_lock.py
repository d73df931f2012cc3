"""A lock on the folder of an installation: two `rustgauged` would start two MariaDB on the same files."""

import contextlib
import fcntl
from collections.abc import Iterator
from pathlib import Path

from rust_gauge.launch.mariadb import LaunchError


@contextlib.contextmanager
def hold_run_lock(path: Path) -> Iterator[None]:
    """Hold the lock file while the block runs; the kernel lets go of it with the process, however that ends.

    LaunchError when another `rustgauged` already runs on the same folder.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    with path.open("w") as file:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise LaunchError(f"Rust Gauge already runs on {path.parent.resolve()}. Stop that one first") from None
        yield
