"""Made-up mail worlds: mailbox providers with hidden laws of trust, senders with incidents, and what of it is seen.

Each provider holds a trust in each sender by a law of its own, and files mail accordingly. A reading sees counters
only; it is judged by tomorrow's true share of inbox. `python -m bench.worlds [SEED ...]` prints the figures of
docs/reputation.md.
"""
