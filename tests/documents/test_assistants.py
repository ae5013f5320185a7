"""Assistants of several files: grammars, slots, pages; trouble foreseen; the published schema."""

import json
import unittest

from fond_echo.core.audio.containers import encode
from fond_echo.demo.world import files_of
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.foresight import placeholders, warnings
from fond_echo.documents.media import as_text
from fond_echo.documents.reading import read_assistant
from fond_echo.documents.schema import made, published
from tests.sounds import tone

GOOD = """\
assistant: desk
grammar: names.abnf
operator: Maren will answer.
routes:
  - route: book
    rule: book
    examples: [Book a place]
    key: "1"
    slots:
      island: {rule: island, ask: Which island?}
      day: {kind: date, ask: Which day?, validate: [{condition: "{{ value > now | date }}", message: That is over.}]}
    reply: {text: "To {{ slots.island }}."}
  - route: fares
    examples: [What are the fares?]
    key: "2"
    answers_in: text
    reply: {text: Four pounds., then: end}
fallback:
  reply: {documents: ["book/*.md"], unknown: I don't know.}
"""
NAMES = "#ABNF 1.0;\n$island = Brannick | Pell;\n$book = book a place to $island;\n"
PAGE = "# Dogs\n\nDogs travel free.\n"


def files(**changes):
    return {"assistant.yaml": GOOD, "names.abnf": NAMES, "book/dogs.md": PAGE, **changes}


def errors(given):
    try:
        read_assistant(given)
    except InvalidFile as error:
        return [str(fault) for fault in error.errors]
    return []


class Bundles(unittest.TestCase):
    def test_a_good_one(self):
        assistant = read_assistant(files())
        self.assertEqual(set(assistant.rules.rules), {"island", "book"})
        self.assertEqual(assistant.route("book").slots["day"].slot("day").rule, "builtin:date")
        self.assertIn("travel free", assistant.documents_of("fallback").best("dogs").passage.text)
        self.assertEqual(assistant.kinds_for("skerry", "fares"), "text")
        self.assertEqual(assistant.kinds_for("skerry", "book"), "same")

    def test_sounds(self):
        played = GOOD.replace(
            "{text: Four pounds., then: end}", "{sound: fares.wav, text: Four pounds.}"
        )
        self.assertNotEqual(played, GOOD)
        wav = as_text(encode(tone(), "wav"))
        self.assertEqual(
            read_assistant(files(**{"assistant.yaml": played, "fares.wav": wav})).media(
                "fares.wav"
            ),
            wav,
        )
        for given, what in (
            ({"fare.wav": wav}, "there is no sound 'fares.wav' (did you mean fare.wav?)"),
            ({"fares.wav": "***"}, "fares.wav:1:1: the file is not base64"),
            ({"fares.wav": as_text(b"MZ" * 90)}, "not sound of a kind that is read here"),
            ({"fares.wav": as_text(b"OggS" + bytes(2_100_000))}, "2,100,004 bytes"),
        ):
            found = errors(files(**{"assistant.yaml": played, **given}))
            self.assertTrue(any(what in each for each in found), found)
        silent = GOOD.replace("{text: Four pounds., then: end}", "{sound: fares.wav}")
        self.assertIn("a sound needs text", errors(files(**{"assistant.yaml": silent}))[0])

    def test_a_service_in_its_own_shape_is_asked_with_the_words(self):
        own = (
            GOOD
            + 'logic:\n  shop: {url: "http://127.0.0.1:1/", request: {q: "%s"}, answer: "$.a"}\n'
        )
        for sent in ("{{ text }}", "{{ turn.text }}", "{{ slots.island }}"):
            read_assistant(files(**{"assistant.yaml": own % sent}))
        with self.assertRaises(InvalidFile) as found:
            read_assistant(files(**{"assistant.yaml": own % "{{ contact.id }}"}))
        self.assertIn("the request never uses {{ text }}", str(found.exception))

    def test_errors_in_every_file(self):
        def in_main(old, new):
            self.assertIn(old, GOOD)
            return files(**{"assistant.yaml": GOOD.replace(old, new)})

        handing_over = GOOD.replace("then: end", "then: operator")
        self.assertEqual(errors(files(**{"assistant.yaml": handing_over})), [])
        nobody = handing_over.replace("operator: Maren will answer.\n", "")
        for given, words in (
            (in_main("rule: book", "rule: bok"), "assistant.yaml:6:11: there is no rule 'bok' (did you mean book?)"),
            (in_main("rule: island", "rule: iland"), "there is no rule 'iland' (did you mean island?)"),
            (in_main("kind: date", "kind: dat"), "no kind is 'dat' (did you mean date?)"),
            (in_main("kind: date", "kind: date, rule: island"), "either a rule of the grammar or a kind"),
            (in_main("ask: Which island?", "required: true"), "a slot that is needed must be asked for"),
            (in_main("ask: Which island?", "ask: Which?, confirm: true"), "nothing is read back"),
            (in_main("value >", "valeu >"), "nothing fills in {{ valeu }} (did you mean value?)"),
            (in_main('key: "2"', 'key: "1"'), "the key 1 leads to book too (see line 8)"),
            (files(**{"assistant.yaml": nobody}), "there is no operator to hand over to"),
            (in_main("book/*.md", "books/*.md"), "no file is 'books/*.md' (did you mean book/dogs.md?)"),
            (in_main("documents: [", "text: x, documents: ["), "only one of them"),
            (in_main("grammar: names.abnf", "grammar: name.abnf"), "there is no file 'name.abnf' (did you mean names.abnf?)"),
            (files(**{"names.abnf": NAMES.replace("$book =", "$book = $book")}), "names.abnf:3:1: $book begins with itself"),
            (files(**{"names.abnf": NAMES.replace(" | Pell;", " | ;")}), "names.abnf:2:22: something to say is missing"),
            (files(**{"more.grxml": "<grammar/>"}), "more.grxml:1:1: there is no rule"),
            (files(**{"book/dogs.md": PAGE + "\nAsk {{ name }}.\n"}), "book/dogs.md:5:5: '{{ name }}' stands in a page"),
            (files(**{"book/dogs.md": PAGE + "\nTODO\n"}), "'TODO' stands in a page"),
        ):  # fmt: skip
            found = errors(given)
            with self.subTest(words=words):
                self.assertTrue(any(words in each for each in found), found)

    def test_the_demo_has_none(self):
        for name in ("harbour-desk", "gale-line"):
            self.assertEqual(errors(files_of(name)), [])


class Foresight(unittest.TestCase):
    def found(self, given):
        return " | ".join(map(str, warnings(read_assistant(given), given)))

    def test_nothing_where_all_is_well(self):
        self.assertEqual(self.found(files()), "")

    def test_an_example_that_belongs_elsewhere(self):
        text = GOOD.replace(
            "[What are the fares?]",
            "[What are the fares?, How much is a place, Book a place please]",
        )
        self.assertRegex(
            self.found(files(**{"assistant.yaml": text})), "is nearer to book .'Book a place'"
        )

    def test_names_and_phrases_that_sound_alike(self):
        grammar = NAMES.replace("Pell;", "Pell | Bell;")
        self.assertIn(
            "'bell' and 'pell' sound too alike",
            self.found(files(**{"names.abnf": grammar})).replace(
                "'pell' and 'bell'", "'bell' and 'pell'"
            ),
        )
        text = GOOD.replace("[What are the fares?]", "[Cook a place, What are the fares?]")
        self.assertIn("sounds like", self.found(files(**{"assistant.yaml": text})))

    def test_a_reply_too_long_to_listen_to(self):
        text = GOOD.replace("Four pounds.", "word " * 80)
        self.assertIn(
            "spoken, this is 80 words long", self.found(files(**{"assistant.yaml": text}))
        )
        text = text.replace("then: end", "then: end, sentences: 2")
        self.assertEqual(self.found(files(**{"assistant.yaml": text})), "")


class Templates(unittest.TestCase):
    def faults(self, *changes):
        text = """\
assistant: desk
logic:
  office: {url: "https://office.example/ask", request: {words: "{{ text }}"}, answer: "$.says"}
routes:
  - route: book
    examples: [I want a place]
    slots: {day: {kind: date, ask: "Which day, {{ contact.name }}?"}}
    reply: {text: "On {{ slots.day }}, {{ turn.text }}."}
fallback: {reply: {text: "At {{ now.hour }}."}}
"""
        for old, new in changes:
            self.assertIn(old, text)
            text = text.replace(old, new)
        try:
            read_assistant({"assistant.yaml": text})
        except InvalidFile as error:
            return [(each.line, each.what, each.remedy) for each in error.errors]
        return []

    def test_what_nothing_fills_in(self):
        self.assertEqual(self.faults(), [])
        for old, new, line, what, remedy in (
            ("turn.text }}.", "turn.txt }}.", 8, "turn.txt", "did you mean text?"),
            ("contact.name", "contact.nme", 7, "contact.nme", "did you mean name?"),
            ("contact.name", "contact['nme']", 7, "contact.nme", "did you mean name?"),
            ("slots.day }}", "slots.dya }}", 8, "slots.dya", "did you mean day?"),
            ("now.hour", "slots.day", 9, "slots.day", "none are known"),
            ("now.hour", "now.houre", 9, "now.houre", "did you mean hour?"),
            ("now.hour", "hours.opensat", 9, "hours.opensat", "did you mean opens_at?"),
            ("{{ text }}", "{{ txt }}", 3, "txt", "text?"),
            ("{{ text }}", "{{ turn.wrods }}", 3, "turn.wrods", "known: "),
            (
                'reply: {text: "On',
                'reply: {then: transfer, to: "{{ contact.nr }}", text: "On',
                8,
                "contact.nr",
                "known: channel, id, name",
            ),
        ):
            with self.subTest(new):
                ((at, found, way_out),) = self.faults((old, new))
                self.assertEqual(at, line)
                self.assertIn(f"nothing fills in {{{{ {what} }}}}", found)
                self.assertIn(remedy, way_out)
        for new in ("memory.anything", "variables.step", "turn['text']", "slots | length",
                    "{'a': 1}.a", "(contact | default({})).nme"):  # fmt: skip
            self.assertEqual(self.faults(("now.hour", new)), [], new)

    def test_undo_goes_with_what_changes_something(self):
        for reply in (
            "{text: x, undo: office.cancel}",
            "{logic: office.book, safe: true, undo: office.cancel}",
        ):
            ((_, found, _),) = self.faults(('{text: "At {{ now.hour }}."}', reply))
            self.assertIn("it goes with logic, without safe", found)
        ((_, found, way_out),) = self.faults(
            ('{text: "At {{ now.hour }}."}', "{logic: office.book, undo: ofice.cancel}")
        )
        self.assertEqual((found, way_out), ("there is no logic 'ofice'", "did you mean office?"))


class Placeholders(unittest.TestCase):
    def warned(self, words):
        files = {
            "assistant.yaml": "assistant: desk\nroutes: []\nfallback:\n  reply:\n    text: |\n      "
            + words
            + "\n"
        }
        return [str(each) for each in warnings(read_assistant(files), files)]

    def test_places_that_nobody_filled_in(self):
        for words in (
            "Come to [ADDRESS] today.", "Ask <your name> about it.", "INSERT the fares HERE.",
            "Your company sails daily.", "Lorem ipsum dolor.", "Call <phone number>.",
        ):  # fmt: skip
            with self.subTest(words):
                (found,) = self.warned(words)
                self.assertTrue(found.startswith("assistant.yaml:6:"), found)
                self.assertIn("unfilled placeholder", found)

    def test_how_logic_is_asked_is_not_said(self):
        text = (
            "assistant: desk\nlogic:\n  mind:\n    url: http://127.0.0.1:1/x\n"
            '    request: {model: "[MODEL]", words: "{{ text }}"}\n'
            '    stream: {as: events, piece: "$.more", end: "[DONE]"}\n'
            "    failed: Ask at [ADDRESS].\n"
            "fallback:\n  reply: {text: Come to [ADDRESS].}\n"
        )
        found = placeholders({"assistant.yaml": text})
        self.assertEqual([each.line for each in found], [7, 9])

    def test_what_is_meant_is_left_alone(self):
        for words in (
            "A crossing is [4] pounds.", "<speak>Four <break time='1s'/> pounds.</speak>",
            "Insert a coin here.", "We keep you company on board.", "The gale [see below] is over.",
            "<b>Four</b> pounds.",
        ):  # fmt: skip
            with self.subTest(words):
                self.assertEqual(self.warned(words), [])


class Schema(unittest.TestCase):
    def test_it_is_published_as_it_is(self):
        self.assertEqual(published(), made(), "run: python -m fond_echo.documents.schema")
        fields = json.loads(published())["properties"]
        self.assertLessEqual({"assistant", "routes", "fallback", "grammar"}, set(fields))
