"""The nine stages of a turn.

receive → fetch → decode → transcribe → route → answer → speak → encode → deliver

Each stage is one function, (the turn so far, what it needs) → what it adds, in its own module;
`receive` is what a channel does. `fond_echo.driver` carries a turn through them.
"""
