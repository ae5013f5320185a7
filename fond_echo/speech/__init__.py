"""The recognizer and the synthesizer at work: what they load, and their processes."""
