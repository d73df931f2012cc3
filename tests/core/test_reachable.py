"""Where the service may connect to: the ranges of IANA's registries of special-purpose addresses, and what hides in them."""

import pytest

from rust_gauge.core.reachable import is_globally_reachable

PUBLIC = (
    "8.9.10.11",
    "198.17.255.255",
    "198.20.0.0",
    "100.63.255.255",
    "2600::1",
    "2a00:1450::1",
    "2001:200::1",
    "3ffe::1",
)
NOT = (
    "0.0.0.0", "0.1.2.3", "10.0.0.1", "100.64.0.1", "127.0.0.1", "127.255.255.254", "169.254.169.254", "172.16.0.1",
    "172.31.255.255", "192.0.0.1", "192.0.0.9", "192.0.2.1", "192.88.99.1", "192.168.1.1", "198.18.0.1", "198.51.100.1",
    "203.0.113.1", "224.0.0.1", "239.255.255.255", "240.0.0.1", "255.255.255.255",
    "::", "::1", "::ffff:127.0.0.1", "::ffff:198.20.0.1", "::127.0.0.1", "64:ff9b::7f00:1", "64:ff9b::c614:1",
    "64:ff9b:1::1", "100::1", "2001::1", "2001:2::1", "2001:10::1", "2001:20::1", "2001:db8::1", "2002:7f00:1::",
    "2002:c614:1::1", "3fff::1", "5f00::1", "fc00::1", "fd12::1", "fe80::1", "fe80::1%eth0", "fec0::1", "ff02::1",
    "2d00::1%eth0", "", "localhost", "127.1", "0x7f.1", "2130706433", "1.2.3", "::ffff:7f00:1",
)  # fmt: skip


@pytest.mark.parametrize("address", PUBLIC)
def test_a_public_address_may_be_contacted(address: str) -> None:
    assert is_globally_reachable(address)


@pytest.mark.parametrize("address", NOT)
def test_what_is_not_globally_reachable_is_refused(address: str) -> None:
    assert not is_globally_reachable(address)
