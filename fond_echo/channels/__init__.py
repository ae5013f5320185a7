"""Channels: each turns incoming messages into an Inbound, and renders what goes out for its
network."""
