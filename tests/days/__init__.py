"""The twelve pieces of a deliverability engineer's work, walked through in the console and in the terminal.

`make days` walks on a fresh demo and writes steps, seconds and pictures into docs/days; `make test` walks as well, and
writes nothing.
"""
