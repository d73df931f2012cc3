"""The client itself, with its parts.

Each part is imported when it is first used, so that a command that needs one of them starts quickly.
"""

# Made from `asynchronous` by tools/sync_client.py: change that one.

from functools import cached_property
from typing import TYPE_CHECKING

from rust_gauge.client.synchronous.connection import Connection

if TYPE_CHECKING:
    from rust_gauge.client.synchronous.account import Account
    from rust_gauge.client.synchronous.addresses import Addresses
    from rust_gauge.client.synchronous.assays import Assays
    from rust_gauge.client.synchronous.audits import Audits
    from rust_gauge.client.synchronous.cause_rules import CauseRulesPart
    from rust_gauge.client.synchronous.domains import Domains
    from rust_gauge.client.synchronous.events import Events
    from rust_gauge.client.synchronous.feeds import Feeds
    from rust_gauge.client.synchronous.flow import FlowReader
    from rust_gauge.client.synchronous.installation import Installation
    from rust_gauge.client.synchronous.jobs import Jobs
    from rust_gauge.client.synchronous.people import People
    from rust_gauge.client.synchronous.placement import Placement
    from rust_gauge.client.synchronous.plans import Plans
    from rust_gauge.client.synchronous.proofs import Proofs
    from rust_gauge.client.synchronous.publishing import Publishing
    from rust_gauge.client.synchronous.readings import Readings
    from rust_gauge.client.synchronous.recipients import Recipients
    from rust_gauge.client.synchronous.relays import Relays
    from rust_gauge.client.synchronous.reports import Reports
    from rust_gauge.client.synchronous.suppression import Suppression
    from rust_gauge.client.synchronous.tokens import Tokens
    from rust_gauge.client.synchronous.trays import Trays
    from rust_gauge.client.synchronous.verification import Verification
    from rust_gauge.client.synchronous.warmup import Warmup
    from rust_gauge.client.synchronous.watches import Watches
    from rust_gauge.client.synchronous.webhooks import Webhooks
    from rust_gauge.client.synchronous.worklist import Worklist
    from rust_gauge.contract.search import SearchResult


class Client(Connection):
    """A client of one service.

    `transport` is for tests. Requests that are safe to repeat are tried up to four times when the service is
    unreachable or busy.
    """

    @cached_property
    def tokens(self) -> "Tokens":
        """API tokens for programs."""
        from rust_gauge.client.synchronous.tokens import Tokens

        return Tokens(self)

    @cached_property
    def account(self) -> "Account":
        """Your own account: sessions, password, second factor."""
        from rust_gauge.client.synchronous.account import Account

        return Account(self)

    @cached_property
    def people(self) -> "People":
        """People of a tenant: members, invitations, the audit log."""
        from rust_gauge.client.synchronous.people import People

        return People(self)

    @cached_property
    def installation(self) -> "Installation":
        """What an owner of the installation manages."""
        from rust_gauge.client.synchronous.installation import Installation

        return Installation(self)

    @cached_property
    def domains(self) -> "Domains":
        """Sending domains."""
        from rust_gauge.client.synchronous.domains import Domains

        return Domains(self)

    @cached_property
    def assays(self) -> "Assays":
        """Messages examined before they are sent."""
        from rust_gauge.client.synchronous.assays import Assays

        return Assays(self)

    @cached_property
    def trays(self) -> "Trays":
        """Trays that catch test messages."""
        from rust_gauge.client.synchronous.trays import Trays

        return Trays(self)

    @cached_property
    def placement(self) -> "Placement":
        """Where copies of a message land at mailbox providers."""
        from rust_gauge.client.synchronous.placement import Placement

        return Placement(self)

    @cached_property
    def verification(self) -> "Verification":
        """Outside verifiers of addresses, and recipients that just came in."""
        from rust_gauge.client.synchronous.verification import Verification

        return Verification(self)

    @cached_property
    def warmup(self) -> "Warmup":
        """Warm-up plans of new senders."""
        from rust_gauge.client.synchronous.warmup import Warmup

        return Warmup(self)

    @cached_property
    def reports(self) -> "Reports":
        """Reports of receivers, and who sends as a domain by what they tell."""
        from rust_gauge.client.synchronous.reports import Reports

        return Reports(self)

    @cached_property
    def audits(self) -> "Audits":
        """Audits of domains."""
        from rust_gauge.client.synchronous.audits import Audits

        return Audits(self)

    @cached_property
    def events(self) -> "Events":
        """Events sent and read."""
        from rust_gauge.client.synchronous.events import Events

        return Events(self)

    @cached_property
    def flow(self) -> "FlowReader":
        """Mail flow per provider."""
        from rust_gauge.client.synchronous.flow import FlowReader

        return FlowReader(self)

    @cached_property
    def suppression(self) -> "Suppression":
        """The suppression list and clearance."""
        from rust_gauge.client.synchronous.suppression import Suppression

        return Suppression(self)

    @cached_property
    def jobs(self) -> "Jobs":
        """Jobs: imports, list checks, policy backtests."""
        from rust_gauge.client.synchronous.jobs import Jobs

        return Jobs(self)

    @cached_property
    def addresses(self) -> "Addresses":
        """Address checks, unsubscribe links, and gates for MTAs."""
        from rust_gauge.client.synchronous.addresses import Addresses

        return Addresses(self)

    @cached_property
    def readings(self) -> "Readings":
        """Readings, the wall, explanations and forecasts."""
        from rust_gauge.client.synchronous.readings import Readings

        return Readings(self)

    def search(self, text: str, *, tenant: str | None = None, each: int = 5) -> "SearchResult":
        """Return what fits a part of a name, a whole address or message id, or words of a reply; `each` of a kind."""
        from rust_gauge.client.calls import search as calls

        return self.send(calls.search(text, tenant, each))

    @cached_property
    def worklist(self) -> "Worklist":
        """The worklist, alerts, lines and stream pauses."""
        from rust_gauge.client.synchronous.worklist import Worklist

        return Worklist(self)

    @cached_property
    def relays(self) -> "Relays":
        """Relays: paths by which mail leaves."""
        from rust_gauge.client.synchronous.relays import Relays

        return Relays(self)

    @cached_property
    def plans(self) -> "Plans":
        """Record plans: what domains should publish."""
        from rust_gauge.client.synchronous.plans import Plans

        return Plans(self)

    @cached_property
    def watches(self) -> "Watches":
        """Propagation watches: how changes of records spread."""
        from rust_gauge.client.synchronous.watches import Watches

        return Watches(self)

    @cached_property
    def publishing(self) -> "Publishing":
        """Plans published by dynamic update (RFC 2136)."""
        from rust_gauge.client.synchronous.publishing import Publishing

        return Publishing(self)

    @cached_property
    def proofs(self) -> "Proofs":
        """Proofs that domains and sender addresses belong to the tenant."""
        from rust_gauge.client.synchronous.proofs import Proofs

        return Proofs(self)

    @cached_property
    def webhooks(self) -> "Webhooks":
        """Webhooks: addresses that the service calls when something happens."""
        from rust_gauge.client.synchronous.webhooks import Webhooks

        return Webhooks(self)

    @cached_property
    def feeds(self) -> "Feeds":
        """Feeds: sources of events."""
        from rust_gauge.client.synchronous.feeds import Feeds

        return Feeds(self)

    @cached_property
    def cause_rules(self) -> "CauseRulesPart":
        """A tenant's own rules that find the cause of a rejection."""
        from rust_gauge.client.synchronous.cause_rules import CauseRulesPart

        return CauseRulesPart(self)

    @cached_property
    def recipients(self) -> "Recipients":
        """Recipient data: what is stored about one person."""
        from rust_gauge.client.synchronous.recipients import Recipients

        return Recipients(self)
