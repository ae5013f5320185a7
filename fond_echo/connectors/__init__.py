"""Requests by description: the request machine, the address guard, secrets' seam."""
