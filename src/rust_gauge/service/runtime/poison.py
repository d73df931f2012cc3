"""Input that a parser or a rule trips over in a way that nobody foresaw: it is set aside, and all else goes on."""

import structlog

log = structlog.get_logger()


def unexpected(what: str, error: Exception, **where: object) -> str:
    """Log an exception that should not be, with its place in the code, and return the reason for people to read."""
    log.warning("input_set_aside", what=what, error=repr(error)[:500], exc_info=error, **where)
    name = type(error).__name__
    return f"This {what} could not be read ({name}). It is stored here unchanged; retry it after an upgrade"
