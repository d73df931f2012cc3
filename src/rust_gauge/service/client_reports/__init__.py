"""Reports on a period for clients: as data, page, mail and shared link, in the look that a tenant chose."""
