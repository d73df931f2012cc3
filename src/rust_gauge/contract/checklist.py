"""What a tenant has set up, and what is next."""

from typing import Literal

from pydantic import Field

from rust_gauge.contract.common import Model

StepName = Literal["domain", "relay", "events", "colleague", "channel"]


class ChecklistStep(Model):
    """One step of setting up a tenant."""

    step: StepName
    title: str
    done: bool
    text: str = Field(description="What it is good for, or what was found")
    path: str = Field(description="Address of the page of the console where it is done")
    command: str = Field(description="The command that does it")


class Checklist(Model):
    """The steps of setting up a tenant, in their order."""

    steps: list[ChecklistStep]
    done: bool
