"""Text to speakable text and back, pronunciation, templates."""
