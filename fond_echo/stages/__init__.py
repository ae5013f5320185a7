"""The nine stages of a turn, and what drives them.

receive → fetch → decode → transcribe → route → answer → speak → encode → deliver

Each stage is one function, (the turn so far, what it needs) → what it adds, in its own module.
"""
