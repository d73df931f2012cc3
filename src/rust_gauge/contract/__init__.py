"""The API's resources as Pydantic models: the only thing that service and client share.

Times are RFC 3339 in UTC; rates are fractions, not percentages; names of domains are A-labels in lower case.
"""
