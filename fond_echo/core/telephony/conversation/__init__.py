"""The course of a call: who speaks when, what ends an utterance, who answered."""
