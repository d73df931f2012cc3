"""What all routes share: who is asking, problems, paging, bodies, the frame around a request."""
