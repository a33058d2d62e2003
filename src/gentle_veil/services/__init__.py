"""Use cases. Each validates everything, then acts in one transaction. Never sees Flask."""
