"""Input that a parser or a rule trips over in a way that nobody foresaw: it is set aside, and all else goes on."""

import structlog

log = structlog.get_logger()


def unexpected(what: str, error: Exception, **where: object) -> str:
    """Log an exception that should not be, with its place in the code, and return the reason for people to read."""
    log.warning("input_set_aside", what=what, error=repr(error)[:500], exc_info=error, **where)
    return f"An error in the service kept this {what} from being read ({type(error).__name__}); see its log"
