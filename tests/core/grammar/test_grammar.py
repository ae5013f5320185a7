"""Grammars in both forms: read, refused, matched, heard."""

import unittest
import unittest.mock
from datetime import datetime

from fond_echo.core.grammar.abnf import read_abnf
from fond_echo.core.grammar.check import check_grammar
from fond_echo.core.grammar.errors import GrammarError
from fond_echo.core.grammar.match import match, spot
from fond_echo.core.grammar.model import Grammar, Reference
from fond_echo.core.grammar.network import network_of
from fond_echo.core.grammar.openings import opening_of
from fond_echo.core.grammar.xml_form import read_xml
from fond_echo.core.language.en.spoken import spoken_tokens
from fond_echo.core.language.en.values import builtin_grammar, value_of_kind

NOW = datetime(2026, 11, 25, 14, 0)
DESK = """#ABNF 1.0 UTF-8;
language en-GB; mode voice; root $ask; // a remark
meta "author" is "nobody";
/* the islands */
$island = Brannick {BR} | Pell | "Little Marrow" {LM};
public $ask = [please] (/3/ when | /1/ what time) is the (next)<1-2> boat to $island [please];
$list = $island (and $island)<0-3>;
$any = tell me $GARBAGE about $island;
$never = $VOID hello;
$quiet = $NULL;
$nested = a $nested b | c;
"""
XML = """<?xml version="1.0"?>
<grammar version="1.0" xml:lang="en" root="ask" xmlns="http://www.w3.org/2001/06/grammar">
  <rule id="island"><one-of>
    <item weight="2">Brannick<tag>BR</tag></item><item>Pell</item>
    <item><token>Little Marrow</token><tag>LM</tag></item>
  </one-of></rule>
  <rule id="ask" scope="public">
    <example>next boat to Pell</example>
    <item repeat="0-1">the</item> next boat to <ruleref uri="#island"/>
  </rule>
</grammar>"""


def read(text=DESK):
    others = {"builtin:": builtin_grammar()}
    grammar = read_xml(text, others) if text.startswith("<") else read_abnf(text, others)
    check_grammar(grammar)
    return grammar


class Reading(unittest.TestCase):
    def test_a_reference_made_for_the_moment_leaves_nothing_behind(self):
        """Another object may get the identity of one that is gone."""
        grammar = builtin_grammar()
        kinds = ("date", "time", "duration", "number", "currency")
        lasting = [Reference("", f"builtin:{kind}") for kind in kinds]
        openings = {each.file: opening_of(each, grammar) for each in lasting}
        count = len(grammar.openings)
        for _ in range(200):
            for kind in kinds:
                found = opening_of(Reference("", f"builtin:{kind}"), grammar)
                self.assertEqual(found, openings[f"builtin:{kind}"], kind)
        self.assertEqual(len(grammar.openings), count)

    def test_errors_have_their_places(self):
        for body, what, line in (
            ("$a = b", "ends with ;", 2),
            ("$a = ( b ;", r"\) is missing", 2),
            ("$a = b;\n$a = c;", "is there already", 3),
            ("$a = $nowhere;", "no rule 'nowhere'", 2),
            ("$a = $a b | c;", "begins with itself", 2),
            ("$a = $b c;\n$b = [d] $a;", "begins with itself", None),
            ("$a = [b]<0->;", "repeats without end", 2),
            ("$a = b<3-1>;", "from more to fewer", 2),
            ("$a = b<9999>;", "over 200 times", 2),
            ("$a = ;", "something to say is missing", 2),
            ("root $x; $a = b;", "no rule of this grammar", None),
            ("$a = $<builtin:colour>;", "no built-in type 'colour'", 2),
            ("$a = b } c;", "cannot stand here", 2),
            ("$a = " + "(" * 80 + "b" + ")" * 80 + ";", "nested over", 2),
            ("colour red;", "neither a rule nor a declaration", 2),
        ):
            with self.subTest(body=body[:40]), self.assertRaisesRegex(GrammarError, what) as raised:
                read(f"#ABNF 1.0;\n{body}")
            if line:
                self.assertEqual(raised.exception.line, line)
        with self.assertRaisesRegex(GrammarError, "begins with #ABNF"):
            read("$a = b;")
        with self.assertRaisesRegex(GrammarError, "over 2,000,000"):
            read_abnf("x" * 2_000_001)

    def test_xml_without_entities(self):
        for text, what in (
            ("<grammar><rule id='a'>b</rule>", "not XML"),
            ("<!DOCTYPE x [<!ENTITY y 'z'>]><grammar/>", "document type"),
            ("<speak/>", "not a grammar"),
            ("<grammar/>", "there is no rule"),
            ("<grammar><rule id='a'><script/></rule></grammar>", "cannot stand here"),
            ("<grammar><rule id='a'><item repeat='x'>b</item></rule></grammar>", "is not N"),
            ("<grammar>" + "<item>" * 200 + "</item>" * 200 + "</grammar>", "nested over"),
            ("<grammar><rule id='a'><ruleref special='ALL'/></rule></grammar>", "not one of NULL"),
        ):
            with self.subTest(what=what), self.assertRaisesRegex(GrammarError, what):
                read_xml(text)

    def test_both_forms_say_the_same(self):
        for grammar in (read(), read(XML)):
            parse = match(grammar, "island", ["little", "marrow"])
            self.assertEqual(parse.literal, "LM")


class Matching(unittest.TestCase):
    def values(self, rule, text):
        parse = match(read(), rule, spoken_tokens(text))
        return parse and [
            (each.kind, each.literal or " ".join(each.tokens)) for each in parse.values
        ]

    def test_rules(self):
        for rule, text, values in (
            ("ask", "when is the next boat to Brannick", [("island", "BR")]),
            ("ask", "please what time is the next next boat to pell please", [("island", "pell")]),
            ("ask", "when is the boat to pell", None),
            ("list", "Pell and Brannick and Pell", [("island", v) for v in ("pell", "BR", "pell")]),
            ("any", "tell me all you know about Pell", [("island", "pell")]),
            ("never", "hello", None),
            ("quiet", "", []),
            ("nested", "a a c b b", [("nested", "a c b"), ("nested", "c")]),
            ("nested", "a a c b", None),
        ):
            with self.subTest(rule=rule, text=text):
                self.assertEqual(self.values(rule, text), values)

    def test_a_likelier_alternative_is_taken(self):
        grammar = read("#ABNF 1.0;\n$a = /1/ b {first} | /5/ b {second};")
        self.assertEqual(match(grammar, "a", ["b"]).literal, "second")

    def test_values_are_spotted_in_other_words(self):
        tokens = spoken_tokens("from Pell to Brannick at ten past four tomorrow")
        found = spot(read(), Reference("island"), tokens)
        self.assertEqual([each.tokens for _, _, each in found], [("pell",), ("brannick",)])
        (time,) = spot(builtin_grammar(), Reference("", "builtin:time"), tokens)
        self.assertEqual(time[2].tokens, ("at", "ten", "past", "four"))

    def test_files_refer_to_one_another(self):
        files: dict[str, Grammar] = {"builtin:": builtin_grammar()}
        files["names.abnf"] = read_abnf("#ABNF 1.0;\n$who = Isla | Piet;", files)
        asking = read_abnf("#ABNF 1.0;\n$a = call $<names.abnf#who> at $<builtin:time>;", files)
        check_grammar(asking)
        parse = match(asking, "a", spoken_tokens("call Piet at noon"))
        self.assertEqual([each.kind for each in parse.values], ["who", "time"])

    def test_a_grammar_that_takes_for_ever_is_given_up(self):
        deep = "#ABNF 1.0;\n$a = (a | b | a b)<1-> c;\n"
        self.assertIsNone(match(read(deep), "a", ["a", "b"] * 150))
        wide = read("#ABNF 1.0;\n$a = ($GARBAGE x)<0-50> z;")
        self.assertIsNone(match(wide, "a", ["x"] * 200))
        limit = unittest.mock.patch("fond_echo.core.grammar.match.MAX_STEPS", 500)
        with limit, self.assertRaisesRegex(GrammarError, "too long"):
            match(wide, "a", ["x"] * 200)


class Values(unittest.TestCase):
    def test_every_kind(self):
        for kind, text, value in (
            ("number", "a hundred and five", 105), ("number", "-3.25", -3.25), ("number", "12500", 12500),
            ("digits", "double four oh seven", "4407"), ("digits", "1 6 3 2", "1632"),
            ("time", "ten past four", "16:10"), ("time", "ten past four in the morning", "04:10"),
            ("time", "quarter to five pm", "16:45"), ("time", "sixteen ten", "16:10"), ("time", "noon", "12:00"),
            ("time", "in half an hour", "14:30"), ("time", "seven o'clock", "19:00"), ("time", "one thirty", "01:30"),
            ("date", "tomorrow", "2026-11-26"), ("date", "next Friday", "2026-11-27"), ("date", "on the fifth", "2026-12-05"),
            ("date", "the third of December", "2026-12-03"), ("date", "2027-02-28", "2027-02-28"),
            ("date", "January 4th", "2027-01-04"), ("date", "in two weeks", "2026-12-09"), ("date", "the thirty first", "2026-12-31"),
            ("date", "June the first twenty twenty eight", "2028-06-01"),
            ("duration", "an hour and a half", "PT1H30M"), ("duration", "two days and ten minutes", "P2DT10M"),
            ("currency", "£4.50", {"amount": 4.5, "currency": "GBP"}), ("currency", "eighty pence", {"amount": 0.8, "currency": "GBP"}),
            ("spelled", "b for boat o a t", "BOAT"), ("spelled", "p 4", "P4"),
            ("boolean", "yes", True), ("boolean", "no thanks", False),
        ):  # fmt: skip
            tokens = spoken_tokens(text)
            with self.subTest(kind=kind, text=text):
                parse = match(builtin_grammar(), kind, tokens)
                self.assertIsNotNone(parse)
                self.assertEqual(value_of_kind(kind, tokens, parse.literal, NOW), value)

    def test_what_is_none(self):
        for kind, text in (
            ("number", "boat"),
            ("time", "ten past forty"),
            ("date", "the fortieth of may"),
        ):
            self.assertIsNone(match(builtin_grammar(), kind, spoken_tokens(text)), text)


class Networks(unittest.TestCase):
    def paths(self, network, words):
        """Whether the network lets the words through."""
        nodes = {0}
        for word in words:
            nodes = {end for start, end, each in network.arcs if start in nodes and each == word}
        return bool(nodes & network.finals)

    def test_what_matches_can_be_heard(self):
        grammar = read()
        network = network_of(grammar, [Reference("ask"), Reference("nested")], [("good", "day")])
        for text, heard in (
            ("when is the next boat to pell", True), ("please when is the next next boat to brannick", True),
            ("when is the boat to pell", False), ("good day", True), ("good", False), ("a a c b b", True),
            ("a a c b", False),
        ):  # fmt: skip
            self.assertEqual(self.paths(network, text.split()), heard, text)

    def test_built_in_types_fit(self):
        for kind in [name for name, rule in builtin_grammar().rules.items() if rule.public]:
            network = network_of(builtin_grammar(), [Reference("", f"builtin:{kind}")])
            self.assertLess(len(network.arcs), 40_000, kind)
        network = network_of(builtin_grammar(), [Reference("", "builtin:time")])
        self.assertTrue(self.paths(network, ["ten", "past", "four", "in", "the", "morning"]))

    def test_one_that_is_too_large_is_refused(self):
        rules = "".join(f"$r{n} = $r{n + 1} $r{n + 1} $r{n + 1} $r{n + 1};\n" for n in range(12))
        with self.assertRaisesRegex(GrammarError, "over 60,000 places"):
            network_of(read(f"#ABNF 1.0;\n{rules}$r12 = a | b;"), [Reference("r0")])
