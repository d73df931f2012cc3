"""The demo: a made-up mail office, its five tenants and half a year of their mail, made from a seed.

`scenario` says who sends and what happened, `generator` makes days of mail from it, `zones` the DNS, `load` loads it.
"""
