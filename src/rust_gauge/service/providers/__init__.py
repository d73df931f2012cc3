"""Mailbox providers: who runs the mailboxes of a recipient domain, and under which name it is shown."""
