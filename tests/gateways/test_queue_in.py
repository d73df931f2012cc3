"""Consuming a queue at a real RabbitMQ: what was used is acknowledged, the rest goes to dead letters or back."""

import threading
from collections.abc import Sequence

import pika
import pytest

from rust_gauge.gateways.queue_in import QueueError, QueuePlace, consume
from rust_gauge.launch.mariadb import free_port
from tests.gateways.servers import rabbitmq


def place(port: int, **wrong: str) -> QueuePlace:
    return QueuePlace(**{
        "host": "127.0.0.1", "port": port, "tls": False, "virtual_host": "/", "user": "guest", "password": "guest",
        "queue": "letters", **wrong,
    })  # type: ignore[arg-type]  # fmt: skip


def test_each_message_is_used_once_set_aside_or_given_back() -> None:
    with rabbitmq() as port:
        connection = pika.BlockingConnection(pika.ConnectionParameters("127.0.0.1", port))
        channel = connection.channel()
        channel.queue_declare("dead")
        dead = {"x-dead-letter-exchange": "", "x-dead-letter-routing-key": "dead"}
        channel.queue_declare("letters", arguments=dead)

        def left(queue: str) -> int:
            return int(channel.queue_declare(queue, passive=True).method.message_count)

        for body in (b"good 1", b"bad", b"good 2"):
            channel.basic_publish("", "letters", body)

        def fail(bodies: Sequence[bytes]) -> Sequence[bool]:
            raise ConnectionError("the store is away")

        with pytest.raises(ConnectionError):
            consume(place(port), fail, threading.Event())
        stop, seen = threading.Event(), list[bytes]()

        def take(bodies: Sequence[bytes]) -> Sequence[bool]:
            seen.extend(bodies)
            if len(seen) >= 3:
                stop.set()
            return [body.startswith(b"good") for body in bodies]

        consume(place(port), take, stop)
        assert sorted(seen) == [b"bad", b"good 1", b"good 2"], "what could not be stored came again"
        assert (left("letters"), left("dead")) == (0, 1)
        for wrong in ({"queue": "nowhere"}, {"password": "wrong"}, {"virtual_host": "nowhere"}):
            with pytest.raises(QueueError):
                consume(place(port, **wrong), take, threading.Event())
        connection.close()


def test_a_broker_that_is_away_is_named() -> None:
    with pytest.raises(QueueError, match=r"127\.0\.0\.1 cannot be reached") as caught:
        consume(place(free_port()), lambda bodies: [], threading.Event())
    assert caught.value.remedy
