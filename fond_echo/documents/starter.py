"""A small assistant that works, to begin with."""

from __future__ import annotations

STARTER = """\
# {title}. Check it with: fond-echo assistant check {folder}
assistant: {name}
language: en
voice: whimbrel
greeting: Hello, this is {title}. How can I help?
goodbye: Goodbye.

routes:
  - route: opening-hours
    examples:
      - When are you open?
      - What are your opening hours?
      - Are you open on Sunday?
    key: "1"
    command: hours
    reply:
      text: We are open from nine to five, Monday to Friday.

  - route: leave-number
    title: Leave a number
    examples:
      - Please ring me back.
      - I'd like somebody to call me.
    key: "2"
    slots:
      number:
        kind: digits
        ask: [What is your number?, "Your number, please, digit by digit."]
        confirm: true
      day: {{kind: date, ask: Which day suits you?}}
    read_back: "{{{{ slots.number }}}}, on {{{{ slots.day | day }}}}. Is that right?"
    reply:
      text: Thank you. We will ring {{{{ slots.number }}}} on {{{{ slots.day | day }}}}.

fallback:
  reply:
    documents: ["documents/*.md"]
    unknown: I can tell you when we are open, and have somebody ring you back.
"""

PAGE = """\
# {title}

## Where we are

We are at the old rope works, behind the harbour master's house. The door is on the quay side.
"""


def title_of(name: str) -> str:
    """An assistant's name as people read it."""
    return name.replace("-", " ").capitalize()


def starter_files(name: str, folder: str = "") -> dict[str, str]:
    """The files of a new assistant.

    Args:
        folder: where they will lie.
    """
    words = {"name": name, "title": title_of(name), "folder": folder or name}
    return {
        "assistant.yaml": STARTER.format(**words), "documents/about.md": PAGE.format(**words)
    }  # fmt: skip
