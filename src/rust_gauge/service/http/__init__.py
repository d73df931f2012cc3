"""What all routes share: authentication, problems, paging, bodies, middleware."""
