"""Spindrift, a second made-up chat network of quite another shape: it is polled, sound travels as
base64 inside JSON, forms carry what is sent, and it knows no buttons, edits or indicators."""
