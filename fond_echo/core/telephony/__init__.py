"""Telephony as machines without I/O: bytes, times and events go in, bytes and events come out."""
