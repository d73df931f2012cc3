"""Benchmarks: each figure is a ratio against a bare floor, measured in one run on one machine.

`python -m bench` runs all; `python -m bench intake` one. Results go to standard output as a Markdown table, to be
copied into docs/performance.md with the machine and the date.
"""
