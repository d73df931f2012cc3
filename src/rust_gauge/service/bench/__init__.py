"""The bench: trays that catch messages, by SMTP, upload and feeds; and what is read out of the messages."""
