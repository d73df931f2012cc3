"""The API's resources as Pydantic models: all that service and client share. Times are RFC 3339 in UTC, rates are
fractions (not percentages), domain names are A-labels in lower case.
"""
