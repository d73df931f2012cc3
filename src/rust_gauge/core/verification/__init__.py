"""Address checks by outside services that cost money: what is sent, what an answer means, what may be spent.

`asking` fills a request and reads an answer, `spending` says how many checks a budget allows, `record` compares
verdicts with what became of the mail.
"""
