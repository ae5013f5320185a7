import unittest
from textwrap import dedent

from fond_echo.documents.connector import read_connector
from fond_echo.documents.digest import digest
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.reading import read_assistant
from fond_echo.documents.source import Place, read_yaml

GOOD = """\
assistant: harbour-desk
logic:
  timetable: {url: "http://127.0.0.1:8090/logic", key: {secret: timetable-mark}}
routes:
  - route: next-sailing
    examples: [When is the next boat to Brannick?, "Next boat to Pell"]
    command: next
    reply: {logic: timetable.next-sailing, safe: true}
  - route: fares
    examples: [How much is a ticket?]
    reply:
      text: A crossing costs £4, {{ contact.name }}.
fallback:
  reply: {text: I can tell you about boats and fares.}
"""

NETWORK = """\
network: skerry
receive:
  webhook: {verify: {kind: hmac-sha256, header: X-Mark, key: {secret: mark}}}
  message: {id: "$.id", conversation: "$.room", contact: "$.by", text: "$.words", sound: "$.sound"}
fetch:
  - {post: "{{ base }}/handles/{{ sound }}", take: {href: "$.href"}}
  - {get: "{{ href }}", bytes: true}
send:
  text: [{post: "{{ base }}/rooms/{{ conversation }}", json: {words: "{{ text }}"}}]
"""


def errors_of(read, *args):
    try:
        read(*args)
    except InvalidFile as error:
        return [str(fault) for fault in error.errors]
    return []


class Yaml(unittest.TestCase):
    def test_values_and_places(self):
        source = read_yaml("a: 1\nb:\n  - x: 'yes'\n    y: 2.5\nc: no\nd: ~\n", "f.yaml")
        self.assertEqual(
            source.value, {"a": 1, "b": [{"x": "yes", "y": 2.5}], "c": "no", "d": None}
        )
        self.assertEqual(source.place(("b", 0, "y")), Place(4, 8))
        self.assertEqual(source.place(("b", 0, "y"), key=True), Place(4, 5))
        self.assertEqual(source.place(("b", 0, "missing")), Place(3, 5))

    def test_what_is_not_read(self):
        deep = "a: " + "[" * 40 + "]" * 40
        bomb = "a: &a [1,1]\nb: [*a, *a]\n"
        for text, line, words in (
            (bomb, 1, "anchors and aliases"),
            ("a: !!python/object:os.system x", 1, "tags"),
            ("a: 1\na: 2\n", 2, "given twice"),
            (deep, 1, "nested deeper"),
            ("a: [1,\nb: 2", 2, "expected"),
            ("a\tb: : x", 1, ""),
            ("? [a, b]\n: 1\n", 1, "plain text"),
            ("x" * 1_000_001, 1, "over 1,000,000 bytes"),
            ("a: \x00", 1, ""),
        ):
            with self.subTest(text=text[:20]):
                (fault,) = errors_of(read_yaml, text, "f.yaml")
                self.assertTrue(fault.startswith(f"f.yaml:{line}:"), fault)
                self.assertIn(words, fault)


class Assistants(unittest.TestCase):
    def read(self, old="", new=""):
        return errors_of(read_assistant, {"assistant.yaml": GOOD.replace(old, new, 1)})

    def test_a_good_one(self):
        assistant = read_assistant({"assistant.yaml": GOOD})
        self.assertEqual(assistant.voice, "whimbrel")
        self.assertEqual(assistant.spec("fares").text, "A crossing costs £4, {{ contact.name }}.")
        self.assertEqual(assistant.router_routes()[0].command, "next")

    def test_every_fault_has_its_place_and_the_nearest_right_name(self):
        cases = (
            ("command: next", "comand: next", "assistant.yaml:7:5: there is no field 'comand' here (did you mean command?)"),
            ("assistant: harbour-desk", "assistant: harbour-desk\nvoice: whimbrell", ":2:8: there is no voice 'whimbrell' (did you mean whimbrel?)"),
            ("timetable.next-sailing", "timetabel.next-sailing", ":8:20: there is no logic 'timetabel' (did you mean timetable?)"),
            ("{{ contact.name }}", "{{ contcat.name }}", ":12:13: nothing fills in {{ contcat }} (did you mean contact?)"),
            ("{{ contact.name }}", "{{ contact.name ", ":12:13: in the template"),
            ("route: fares", "route: next-sailing", ":9:12: a second route 'next-sailing' (see line 5)"),
            ("How much is a ticket?", "next boat to PELL", ":10:16: 'next boat to PELL' is an example of next-sailing too"),
            ("How much is a ticket?", "'?!'", "has no word in it"),
            ("fallback:\n  reply: {text: I can tell you about boats and fares.}\n", "", "the field 'fallback' is missing"),
            ("reply: {logic: timetable.next-sailing, safe: true}", "reply: {logic: timetable.next-sailing, text: x}", "logic, documents, free or transcript, or words"),
            ("assistant: harbour-desk", "assistant: Harbour Desk", "lower-case letters"),
            ("assistant: harbour-desk", "assistant: harbour-desk\nlanguage: fr", "the language 'fr' is not known"),
            ("reply: {logic: timetable.next-sailing, safe: true}", "reply: {text: x, spoken: '<speak><b/></speak>'}", "in the markup: <b> is not spoken (line 1, column 8 of it)"),
            ("reply: {logic: timetable.next-sailing, safe: true}", "reply: {text: x, spoken: \"<speak><voice name='nobody'>a</voice></speak>\"}", "no voice 'nobody'"),
            ("reply: {logic: timetable.next-sailing, safe: true}", "reply: {text: x, voice: nobody}", "no voice 'nobody'"),
            ("    examples: [How much is a ticket?]\n", "", "needs examples, rule, command or key"),
            ('url: "http://127.0.0.1:8090/logic"', 'url: "ftp://x"', "url:"),
        )  # fmt: skip
        for old, new, words in cases:
            with self.subTest(words=words):
                found = self.read(old, new)
                self.assertTrue(any(words in fault for fault in found), found)

    def test_all_errors_at_once(self):
        text = GOOD.replace("command: next", "comand: next").replace("examples: [How", "lik: [How")
        self.assertEqual(len(errors_of(read_assistant, {"assistant.yaml": text})), 2)

    def test_files_that_are_not_an_assistant(self):
        for files, words in (
            ({}, "the file is missing"),
            ({"assistant.yaml": ""}, "the file is empty"),
            ({"assistant.yaml": "- a\n- b"}, "must be a mapping"),
            ({"assistant.yml": GOOD}, "there is: assistant.yml"),
        ):
            (fault, *_) = errors_of(read_assistant, files)
            self.assertIn(words, fault)

    def test_the_same_files_have_the_same_address(self):
        self.assertEqual(digest({"a": "1", "b": "2"}), digest({"b": "2", "a": "1"}))
        self.assertNotEqual(digest({"a": "1"}), digest({"a": "2"}))


class Descriptions(unittest.TestCase):
    def read(self, old="", new=""):
        return errors_of(read_connector, NETWORK.replace(old, new, 1), "skerry.yaml")

    def test_a_good_one(self):
        connector = read_connector(NETWORK, "skerry.yaml")
        self.assertEqual(connector.fetch[0].method, "post")
        self.assertEqual(connector.secrets(), {"mark"})

    def test_errors(self):
        cases = (
            ('"$.words"', '"$..["', ":4:72: text: '$..[' is not a JSONPath"),
            ("{{ conversation }}", "{{ rom }}", "nothing fills in {{ rom }} here"),
            ("post:", "post: x, get:", "exactly one of"),
            ("json: {words", "form: {a: b}, json: {words", "one body"),
            ("bytes: true", "byts: true", "did you mean bytes?"),
            ("{{ base }}/rooms", "{{ base ", "the template is wrong"),
            ("header: X-Mark, ", "", "the field 'header' is missing"),
            ("hmac-sha256", "rot13", "kind:"),
            ("{{ text }}", "hello", "the request for text never uses {{ text }}"),
            ("send:", 'send:\n  voice: [{post: "{{ base }}/x", json: {a: "{{ seconds }}"}}]',
             "the request for voice never uses {{ sound }}"),
        )  # fmt: skip
        for old, new, words in cases:
            with self.subTest(words=words):
                found = self.read(old, new)
                self.assertTrue(any(words in fault for fault in found), found)

    def test_facts_taken_by_a_step_are_known_to_the_next(self):
        swapped = NETWORK.replace("take: {href", "take: {link")
        self.assertIn("{{ href }}", errors_of(read_connector, swapped, "s.yaml")[0])

    def test_sound_without_fetch(self):
        text = dedent(NETWORK[: NETWORK.index("fetch:")] + NETWORK[NETWORK.index("send:") :])
        self.assertIn("fetch says nothing", errors_of(read_connector, text, "s.yaml")[0])
