"""Our synthesizer: phonemes to sound, and the built-in voices."""
