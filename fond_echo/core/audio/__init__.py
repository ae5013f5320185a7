"""Clips, containers and codecs, Ogg Opus, resampling, level, waveform, speech activity."""
