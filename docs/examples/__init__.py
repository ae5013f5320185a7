"""Examples that run: docs/guides walk through them."""
