"""Settings: where the console is reached."""

from pathlib import Path

import pytest

from rust_gauge.service.runtime.settings import Settings


@pytest.mark.parametrize(
    ("values", "url"),
    [
        ({}, "http://127.0.0.1:8025"),
        ({"tls_cert_file": Path("cert.pem")}, "https://127.0.0.1:8025"),
        ({"public_url": "https://gauge.example.test/"}, "https://gauge.example.test"),
        ({"public_url": "https://gauge.example.test", "tls_cert_file": Path("c.pem")}, "https://gauge.example.test"),
    ],
)
def test_links_name_where_the_console_is_reached(values: dict[str, object], url: str) -> None:
    settings = Settings.model_validate({"host": "127.0.0.1", "port": 8025} | values)
    assert settings.base_url == url
