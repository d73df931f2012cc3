"""Reports of receivers: taken in (`storing`), shown (`reports`), and who sends as a domain by what they tell
(`judging`, `sources`)."""
