"""An SMTP conversation as it is stored."""

from dataclasses import asdict

from rust_gauge.contract.bench import Conversation, ConversationStep
from rust_gauge.gateways.bench_in import Delivery


def conversation_of(delivery: Delivery, reply: str) -> Conversation:
    """Return a conversation as it is stored, with the reply that the message gets."""
    last = ConversationStep(at=delivery.steps[-1].at if delivery.steps else 0, side="server", text=reply)
    return Conversation(
        client_ip=delivery.client_ip, helo=delivery.helo, tls=delivery.tls, cipher=delivery.cipher,
        authenticated=delivery.authenticated, mail_from=delivery.mail_from, recipients=list(delivery.recipients),
        steps=[ConversationStep.model_validate(asdict(step)) for step in delivery.steps] + [last],
    )  # fmt: skip
