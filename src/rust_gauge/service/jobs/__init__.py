"""Long work: progress, cancel, resume, files in pieces, results."""
