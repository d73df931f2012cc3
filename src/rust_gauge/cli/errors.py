"""What a command raises for a wrong command line or an unusable input file."""


class UsageError(Exception):
    """The command line or an input is wrong: exit status 2."""
