"""Consuming a queue (AMQP 0-9-1): messages in batches, acknowledged when they are stored, others to dead letters.

`take` gets the bodies of a batch and says for each whether it was used; those that were not are rejected without
requeueing, so that the broker moves them to its dead letters where it has some. When `take` fails, all go back.
"""

import contextlib
import ssl
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

import pika
from pika.exceptions import AMQPError

from rust_gauge.core.errors import RustGaugeError

_BATCH = 500  # messages; one load each, acknowledged after it is committed
_WAIT = 0.5  # seconds that a batch is waited for


class QueueError(RustGaugeError):
    """A queue that cannot be read."""


class _TakeFailed(Exception):
    """What `take` raised is its cause: it is no trouble of the broker, even if it looks like one."""


@dataclass(frozen=True, slots=True)
class QueuePlace:
    """Which queue, and as whom."""

    host: str
    port: int | None
    tls: bool
    virtual_host: str
    user: str
    password: str
    queue: str
    ca_file: str = ""


def consume(place: QueuePlace, take: Callable[[Sequence[bytes]], Sequence[bool]], stop: threading.Event) -> None:
    """Consume until `stop` is set. QueueError when the broker is away or does not let us; whatever `take` raises."""
    try:
        connection = pika.BlockingConnection(_parameters(place))
    except (AMQPError, OSError, ValueError) as error:
        why = str(error) or type(error).__name__
        remedy = "Check address, user, password and virtual host"
        raise QueueError(f"{place.host} cannot be reached: {why}"[:300], remedy=remedy) from None
    try:
        channel = connection.channel()
        channel.basic_qos(prefetch_count=_BATCH)
        batch: list[tuple[int, bytes]] = []

        def arrived(_: Any, method: Any, __: Any, body: bytes) -> None:
            batch.append((method.delivery_tag, body))

        channel.basic_consume(place.queue, arrived)
        while not stop.is_set():
            end = time.monotonic() + _WAIT
            while len(batch) < _BATCH and time.monotonic() < end and not stop.is_set():
                connection.process_data_events(time_limit=max(0.0, min(0.1, end - time.monotonic())))
            if batch:
                some, batch[:] = batch[:_BATCH], batch[_BATCH:]
                _settle(channel, some, take)
    except _TakeFailed as failed:
        assert failed.__cause__ is not None
        raise failed.__cause__ from None
    except (AMQPError, OSError) as error:
        raise QueueError(f"{place.queue} at {place.host}: {error or type(error).__name__}"[:300]) from None
    finally:
        with contextlib.suppress(AMQPError, OSError):
            connection.close()  # what was not acknowledged goes back


def _settle(channel: Any, some: list[tuple[int, bytes]], take: Callable[[Sequence[bytes]], Sequence[bool]]) -> None:
    try:
        used = take([body for _, body in some])
    except Exception as error:
        raise _TakeFailed from error
    if all(used):
        channel.basic_ack(some[-1][0], multiple=True)
        return
    for (tag, _), good in zip(some, used, strict=True):
        if good:
            channel.basic_ack(tag)
        else:
            channel.basic_reject(tag, requeue=False)


def _parameters(place: QueuePlace) -> pika.ConnectionParameters:
    options = None
    if place.tls:
        context = ssl.create_default_context()
        if place.ca_file:
            context.load_verify_locations(place.ca_file)
        options = pika.SSLOptions(context, place.host)
    return pika.ConnectionParameters(
        host=place.host, port=place.port or (5671 if place.tls else 5672), virtual_host=place.virtual_host,
        credentials=pika.PlainCredentials(place.user, place.password), ssl_options=options, heartbeat=30,
        blocked_connection_timeout=30, socket_timeout=10, connection_attempts=1,
    )  # fmt: skip
