"""The matcher and the ear's network are two readings of one grammar: whatever the grammar, they
agree on what may be said."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from fond_echo.core.grammar.abnf import read_abnf
from fond_echo.core.grammar.check import check_grammar
from fond_echo.core.grammar.errors import GrammarError
from fond_echo.core.grammar.match import match
from fond_echo.core.grammar.model import Reference
from fond_echo.core.grammar.network import network_of
from fond_echo.core.language.en.values import builtin_grammar

WORDS = ("boat", "pell", "when", "to")

word = st.sampled_from(WORDS)
expansion = st.recursive(
    word | st.sampled_from(["$NULL", "$VOID", "$b", "{tag}"]),
    lambda inner: st.one_of(
        st.lists(inner, min_size=1, max_size=3).map(lambda items: f"({' '.join(items)})"),
        st.lists(inner, min_size=2, max_size=3).map(lambda items: f"({' | '.join(items)})"),
        inner.map(lambda item: f"[{item}]"),
        st.tuples(inner, st.sampled_from(["0-1", "1-2", "2", "0-3"])).map(
            lambda pair: f"({pair[0]})<{pair[1]}>"
        ),
    ),
    max_leaves=8,
)
sentence = st.lists(word, max_size=6)


def heard(network, tokens):
    """Whether the network lets tokens through without anything around them."""
    nodes = {0}
    for token in tokens:
        nodes = {end for start, end, each in network.arcs if start in nodes and each == token}
    return bool(nodes & network.finals)


class Agreement(unittest.TestCase):
    @settings(max_examples=300, deadline=None, derandomize=True, database=None)
    @given(first=expansion, second=expansion, tokens=sentence)
    def test_on_what_may_be_said(self, first, second, tokens):
        text = f"#ABNF 1.0;\n$a = {first};\n$b = pell | {second.replace('$b', 'when')};"
        grammar = read_abnf(text, {"builtin:": builtin_grammar()})
        try:
            check_grammar(grammar)
            network = network_of(grammar, [Reference("a")])
        except GrammarError:
            return
        parse = match(grammar, "a", tokens)
        if tokens:
            self.assertEqual(parse is not None, heard(network, tokens), (text, tokens))

    @settings(max_examples=200, deadline=None, derandomize=True, database=None)
    @given(text=st.text(alphabet="$ab =;|()[]<>{}0-9/\"'!#\n", max_size=60))
    def test_any_text_is_read_or_refused(self, text):
        try:
            check_grammar(read_abnf(f"#ABNF 1.0;\n{text}", {"builtin:": builtin_grammar()}))
        except GrammarError as fault:
            self.assertTrue(fault.what)
