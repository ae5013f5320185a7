"""Grow the tree of all words that dictation knows, so that no process does it at its start.

    python -m training.tree

Run it again when `words`, the lexicon or the rules for letters change; a test says when.
"""

from __future__ import annotations

from fond_echo.core.language.registry import DEFAULT
from fond_echo.core.recognition.tree import tree_of
from fond_echo.speech.material import DATA, lexicon, words


def main() -> None:
    out = DATA / f"tree-{DEFAULT}.npz"
    tree = tree_of(words(), lexicon())
    tree.save(out)  # type: ignore[arg-type]  # a path: the package is not in an archive here
    print(f"{len(tree.symbols):,} nodes, {len(tree.entry_word):,} entries")


if __name__ == "__main__":
    main()
