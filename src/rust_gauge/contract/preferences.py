"""What a person has set for themselves: time zone, saved views, how tables are shown."""

from typing import Annotated
from zoneinfo import available_timezones

from pydantic import AfterValidator, Field, StringConstraints

from rust_gauge.contract.common import Model

MOST_VIEWS = 100
_Name = Annotated[str, StringConstraints(min_length=1, max_length=60, strip_whitespace=True)]
_Label = Annotated[str, StringConstraints(min_length=1, max_length=100)]


def _zone(name: str) -> str:
    if name not in available_timezones():
        raise ValueError(f"{name!r} is not a time zone. Expected a name such as Europe/Lisbon, or UTC")
    return name


class SavedView(Model):
    """A page of the console under a name: its path, with what is chosen on it."""

    name: _Name = Field(examples=["Glasswort, last 90 days"])
    path: Annotated[str, StringConstraints(max_length=2000, pattern=r"^(/|/[^/\\\s][^\\\s]*)$")] = Field(
        examples=["/flow?tenant=glasswort&days=90"]
    )


class TableView(Model):
    """How a table of the console is shown: columns that are hidden, and the column that it is sorted by."""

    hidden: list[_Label] = Field(default=[], max_length=60)
    sort: Annotated[str, StringConstraints(max_length=100)] = ""
    descending: bool = False


class Preferences(Model):
    """Preferences of a person. Days are counted in UTC whatever the time zone; it is for moments."""

    time_zone: Annotated[str, StringConstraints(max_length=60), AfterValidator(_zone)] = Field(
        "UTC", description="IANA name of the zone that moments are shown in", examples=["Europe/Lisbon"]
    )
    views: list[SavedView] = Field(default=[], max_length=MOST_VIEWS)
    tables: dict[_Label, TableView] = Field(default={}, max_length=200, description="By the table's name")
