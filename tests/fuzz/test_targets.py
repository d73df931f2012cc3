"""No input makes a parser raise anything but its own error."""

import contextlib
from itertools import islice

import pytest

from tests.fuzz.targets import TARGETS, Target, inputs


@pytest.mark.parametrize("target", TARGETS, ids=[target.name for target in TARGETS])
def test_a_parser_raises_nothing_but_its_own_error(target: Target) -> None:
    for raw in islice(inputs(target, 7), 150):
        with contextlib.suppress(*target.raises):
            target.run(raw)
