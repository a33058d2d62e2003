"""Long work in worker processes: progress, cancel, and going on after a crash."""
