"""Shapes on the wire, shared by service, client and business logic."""
