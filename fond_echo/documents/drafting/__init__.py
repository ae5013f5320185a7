"""Connector files drafted from examples: a request of a provider's documentation, and messages."""
