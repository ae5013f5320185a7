"""Commands that need no service, as a person types them."""

import contextlib
import io
import json
import sys
import tempfile
import unittest
import unittest.mock
from pathlib import Path
from unittest.mock import patch

from fond_echo.cli import entry
from fond_echo.cli.main import main
from fond_echo.core.audio.clip import join
from fond_echo.core.audio.containers import encode
from fond_echo.core.audio.resample import at_rate
from fond_echo.demo.world import files_of
from fond_echo.documents.media import bytes_of, is_media
from tests.sounds import silence_of, speech, tone
from tests.support.world import demo_file


def put_demo(assistant, folder):
    """Write the files of one of the demo's assistants into a folder."""
    for name, text in files_of(assistant).items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        data = bytes_of(text) if is_media(name) else text.encode()
        (folder / name).write_bytes(data)


class Beginning(unittest.TestCase):
    def test_only_what_forks_processes_begins_to_load_ahead(self):
        for arguments, times in (
            (["serve"], 1), (["demo", "--fresh"], 1), (["demo", "--help"], 0), (["settings"], 0),
            ([], 0),
        ):  # fmt: skip
            with (
                self.subTest(arguments),
                patch.object(sys, "argv", ["fond-echo", *arguments]),
                patch("fond_echo.running.fork_server.open_fork_server") as opened,
                patch("fond_echo.cli.main.main", return_value=3) as run,
            ):
                self.assertEqual(entry.main(), 3)
                self.assertEqual((opened.call_count, run.call_count), (times, 1))


class Command(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def run_command(self, *arguments, stdin=""):
        out, err = io.StringIO(), io.StringIO()
        with (
            contextlib.redirect_stdout(out),
            contextlib.redirect_stderr(err),
            unittest.mock.patch("sys.stdin", io.StringIO(stdin)),
        ):
            try:
                code = main([str(each) for each in arguments])
            except SystemExit as end:
                code = end.code
        return code, out.getvalue(), err.getvalue()


class Speech(Command):
    def test_speak_inspect_and_transcribe(self):
        file = self.folder / "reply.ogg"
        text = "The next boat to Brannick leaves at ten past four."
        code, out, _ = self.run_command("speak", text, "-o", file)
        self.assertEqual(code, 0, out)
        code, out, _ = self.run_command("clip", "inspect", file)
        self.assertEqual(code, 0)
        self.assertIn("a proper voice note", out)
        code, out, _ = self.run_command(
            "transcribe", file, "--expect", text, "--expect", "Something else"
        )
        self.assertEqual(code, 0)
        self.assertIn("The next boat to brannick leaves at 4:10.".lower(), out.lower())

    def test_json(self):
        file = self.folder / "reply.wav"
        code, out, _ = self.run_command("speak", "-", "-o", file, "--json", stdin="Good morning.")
        reported = json.loads(out)
        self.assertEqual([word["word"] for word in reported["words"]], ["good", "morning"])
        code, out, _ = self.run_command("transcribe", file, "--json", "--expect", "Good morning.")
        (heard,) = json.loads(out)
        self.assertEqual(
            (code, heard["written"], heard["source"]), (0, "Good morning.", "expected")
        )
        code, out, _ = self.run_command("clip", "inspect", file, "--json")
        (report,) = json.loads(out)
        self.assertEqual((code, report["voice_note"]), (1, False))

    def test_an_assistant_says_what_to_listen_for(self):
        folder = self.folder / "desk"
        folder.mkdir()
        put_demo("harbour-desk", folder)
        file = self.folder / "question.ogg"
        file.write_bytes(encode(speech("Is there a weather hold?", "petrel"), "ogg"))
        _, out, _ = self.run_command("transcribe", file, "--assistant", folder)
        self.assertIn("Is there a weather hold?  [expected", out)

    def test_subtitles_hints_and_grammars(self):
        first, second = self.folder / "first.wav", self.folder / "second.wav"
        first.write_bytes(encode(speech("Two four seven nine.", "petrel"), "wav"))
        second.write_bytes(encode(speech("I want to go to Brannick.", "tern"), "wav"))
        grammar = self.folder / "code.abnf"
        grammar.write_text("#ABNF 1.0 UTF-8;\nlanguage en;\nroot $code;\n$code = $d <4>;\n"
                           "$d = zero | one | two | three | four | five | six | seven | eight | nine;\n")  # fmt: skip
        code, out, err = self.run_command(
            "transcribe", first, "--grammar", grammar, "--form", "srt"
        )
        self.assertEqual(code, 0, err)
        self.assertRegex(out, r"^1\n00:00:00,\d{3} --> 00:00:0\d,\d{3}\n2479\.\n")
        _, out, _ = self.run_command("transcribe", second, "--hint", "Brannick", "--form", "vtt")
        self.assertIn("WEBVTT", out)
        self.assertIn("Brannick.", out)
        into = self.folder / "texts"
        self.run_command("transcribe", first, second, "--output", into, "--hint", "Brannick")
        self.assertEqual(sorted(each.name for each in into.iterdir()), ["first.txt", "second.txt"])
        grammar.write_text("#ABNF 1.0;\nroot $a;\n$a = $b;\n")
        code, _, err = self.run_command("transcribe", first, "--grammar", grammar)
        self.assertEqual(code, 1)
        self.assertIn("'b'", err)
        code, _, err = self.run_command("transcribe", first, "--language", "nl")
        self.assertEqual(code, 1)
        self.assertIn("en", err)

    def test_one_of_what_is_expected_is_chosen(self):
        file = self.folder / "like.wav"
        file.write_bytes(encode(speech("Is a boat late, then?", "petrel"), "wav"))
        expect = ("--expect", "The boat is late.", "--expect", "Speak to a person.")
        _, out, _ = self.run_command("transcribe", file, "--only", *expect)
        self.assertIn("The boat is late.  [expected", out)
        code, _, err = self.run_command("transcribe", file, "--only")
        self.assertEqual(code, 1)
        self.assertIn("give phrases", err)

    def test_what_was_heard_is_scored(self):
        said = {"first": "The boat is late.", "second": "When is the boat to Pell on Sunday?"}
        for name, text in said.items():
            (self.folder / f"{name}.txt").write_text(text)
        files = [self.folder / "first.wav", self.folder / "second.wav"]
        files[0].write_bytes(encode(speech(said["first"], "petrel"), "wav"))
        files[1].write_bytes(encode(speech("When is a boat to Pell?", "petrel"), "wav"))
        expect = ("--expect", "When is a boat to Pell?", "--expect", said["first"])
        code, out, _ = self.run_command("transcribe", *files, "--score", *expect)
        self.assertEqual(code, 0)
        self.assertIn("when is the→a boat to pell -on -sunday", out)
        self.assertIn("3 of 8 words wrong (37.5%)", out)
        self.assertIn("2 files, 12 words: 25.0%", out)
        _, out, _ = self.run_command("transcribe", files[0], "--score", "--json", *expect)
        (reported,) = json.loads(out)
        self.assertEqual((reported["score"]["word_errors"], reported["score"]["words"]), (0, 4))
        (self.folder / "first.txt").unlink()
        code, _, err = self.run_command("transcribe", files[0], "--score")
        self.assertEqual((code, "first.txt" in err), (1, True))

    def test_a_long_file_is_read_a_little_at_a_time(self):
        file = self.folder / "long.wav"
        sentence = [speech("I am waiting for my brother.", "tern"), silence_of(1.4)]
        file.write_bytes(encode(at_rate(join(sentence * 7), 48_000), "wav"))
        code, out, _ = self.run_command("transcribe", file, "--json")
        (heard,) = json.loads(out)
        self.assertEqual(code, 0)
        self.assertEqual(heard["spoken"].count("i am waiting for my brother"), 7)
        times = [word["start"] for word in heard["words"]]
        self.assertEqual(times, sorted(times))
        self.assertEqual(len(heard["segments"]), 7)

    def test_wrong_use_and_failed_work(self):
        code, _, err = self.run_command("speak", "x", "-o", self.folder / "a.xyz")
        self.assertEqual(code, 2)
        self.assertIn(".ogg", err)
        code, _, err = self.run_command(
            "speak", "x", "-o", self.folder / "a.ogg", "--voice", "parrot"
        )
        self.assertEqual(code, 1)
        self.assertIn("whimbrel", err)
        code, _, err = self.run_command("transcribe", self.folder / "none.ogg")
        self.assertEqual(code, 1)
        self.assertIn("none.ogg", err)
        self.assertEqual(self.run_command("nonsense")[0], 2)


class Clips(Command):
    def test_convert(self):
        source = self.folder / "a.wav"
        source.write_bytes(encode(tone(2.0, 16_000, level=0.05), "wav"))
        for name in ("b.ogg", "b.mp3", "b.flac"):
            code, out, _ = self.run_command(
                "clip", "convert", source, "-o", self.folder / name, "--loudness", "-18", "--trim"
            )
            self.assertEqual(code, 0, out)
        code, out, _ = self.run_command("clip", "inspect", self.folder / "b.ogg")
        self.assertRegex(out, r"loudness +-18\.")
        self.assertEqual(
            self.run_command("clip", "convert", source, "-o", self.folder / "b.txt")[0], 2
        )
        self.assertEqual(
            self.run_command("clip", "convert", self.folder / "none", "-o", self.folder / "b.ogg")[
                0
            ],
            1,
        )

    def test_inspect_says_what_to_do(self):
        file = self.folder / "note.mp3"
        file.write_bytes(encode(tone(1.0), "mp3"))
        code, out, _ = self.run_command("clip", "inspect", file)
        self.assertEqual(code, 1)
        self.assertIn("not Opus in Ogg", out)
        self.assertIn("fond-echo clip convert", out)
        (self.folder / "x").write_bytes(b"nothing")
        code, _, err = self.run_command("clip", "inspect", self.folder / "x")
        self.assertEqual(code, 1)
        self.assertIn("not sound", err)


class Assistants(Command):
    def test_new_check_and_try(self):
        folder = self.folder / "rope-works"
        code, out, _ = self.run_command("assistant", "new", folder)
        self.assertEqual((code, "Next steps" in out), (0, True))
        code, out, _ = self.run_command("assistant", "check", folder)
        self.assertEqual(
            (code, out), (0, "rope-works: no errors; 2 routes, 5 examples, voice whimbrel\n")
        )
        said = ("please ring me back", "oh one six three two", "tomorrow", "yes", "where are you")
        code, out, _ = self.run_command("assistant", "try", folder, *said, "--scores")
        self.assertEqual(code, 0)
        for words in (
            "What is your number?",
            "number: 01632",
            "[Yes] [No]",
            "We will ring 01632",
            "opening-hours",
        ):
            self.assertIn(words, out)
        code, _, err = self.run_command("assistant", "new", folder)
        self.assertEqual((code, "has files in it" in err), (1, True))
        _, out, _ = self.run_command("assistant", "try", "--scores", folder, "when open", "--json")
        self.assertEqual(json.loads(out)["route"], "opening-hours")
        put_demo("harbour-desk", self.folder / "desk")
        _, out, _ = self.run_command("assistant", "try", self.folder / "desk", "next boat to pell")
        self.assertIn("business logic is not asked here: next-sailing {'island': 'Pell'}", out)

    def test_a_name_alone_is_one_in_the_service(self):
        self.run_command("assistant", "new", self.folder / "rope-works")
        with contextlib.chdir(self.folder):
            code, out, _ = self.run_command("assistant", "try", "./rope-works", "when open")
            self.assertEqual((code, "We are open from nine" in out), (0, True))
            nowhere = ("--address", "http://127.0.0.1:9")
            code, _, err = self.run_command("assistant", "try", "rope-works", "hello", *nowhere)
        self.assertEqual((code, "for the folder here, write ./rope-works" in err), (3, True), err)

    def test_what_is_read_back_must_be_asked_for(self):
        self.run_command("assistant", "new", self.folder / "desk")
        file = self.folder / "desk" / "assistant.yaml"
        file.write_text(file.read_text().replace("confirm: true", "confirm: false"))
        code, out, _ = self.run_command("assistant", "check", self.folder / "desk")
        self.assertEqual((code, "read_back of leave-number is never said" in out), (0, True), out)

    def test_warnings_and_schema(self):
        put_demo("harbour-desk", self.folder)
        file = self.folder / "assistant.yaml"
        file.write_text(
            file.read_text().replace(
                "- What are the fares?", "- What are the fares?\n      - Lost my bag"
            )
        )
        code, out, _ = self.run_command("assistant", "check", self.folder)
        self.assertEqual((code, "warning: assistant.yaml" in out), (0, True))
        _, out, _ = self.run_command("assistant", "schema")
        self.assertEqual(json.loads(out)["title"], "AssistantFile")

    def test_check(self):
        put_demo("harbour-desk", self.folder)
        code, out, _ = self.run_command("assistant", "check", self.folder)
        self.assertEqual(code, 0)
        self.assertIn("no errors; 11 routes", out)
        text = demo_file("harbour-desk/assistant.yaml").replace(
            "voice: whimbrel", "voice: whimbrell"
        )
        (self.folder / "assistant.yaml").write_text(text)
        code, _, err = self.run_command("assistant", "check", self.folder)
        self.assertEqual(code, 1)
        self.assertIn(
            "assistant.yaml:4:8: there is no voice 'whimbrell' (did you mean whimbrel?)", err
        )
        code, out, _ = self.run_command("assistant", "check", self.folder, "--json")
        self.assertEqual((code, json.loads(out)["errors"][0]["line"]), (1, 4))
        self.assertEqual(self.run_command("assistant", "check", self.folder / "none")[0], 1)

    def test_files_that_cannot_be_read_are_told_by_name(self):
        none, junk = self.folder / "none.yaml", self.folder / "junk.yaml"
        junk.write_bytes(b"\xff\xfe\x00")
        sound = self.folder / "sound.wav"
        sound.write_bytes(encode(tone(0.3), "wav"))
        for command in (
            ("clip", "inspect", none), ("clip", "convert", none, "-o", self.folder / "x.wav"),
            ("transcribe", none), ("transcribe", sound, "--grammar", none),
            ("connector", "check", none), ("scenario", "run", none),
            ("speak", "Hello.", "-o", none / "x.ogg"),
            ("channel", "add", "x", "--assistant", "a", "--connector", none),
            ("channel", "add", "x", "--kind", "phone", "--assistant", "a", "--connector", none),
            ("channel", "add", "x", "--kind", "http", "--assistant", "a", "--settings", none),
            ("call", "place", "exchange", "2001", "--sound", none),
        ):  # fmt: skip
            code, out, err = self.run_command(*command)
            self.assertEqual((code, out), (1, ""), command)
            self.assertIn("none.yaml", err)
            self.assertNotIn("Errno", err)
            self.assertNotIn("Traceback", err)
        for command in (
            ("transcribe", junk), ("transcribe", sound, "--grammar", junk),
            ("connector", "check", junk), ("scenario", "run", junk),
            ("channel", "add", "x", "--kind", "phone", "--assistant", "a", "--connector", junk),
        ):  # fmt: skip
            code, _, err = self.run_command(*command)
            self.assertEqual(code, 1)
            self.assertIn("junk.yaml", err)

    def test_options_that_are_no_pairs(self):
        for command in (
            ("channel", "add", "x", "--assistant", "a", "--set", "base"),
            ("connector", "try", "network.yaml", "text", "--fact", "=room"),
            ("call", "place", "exchange", "2001", "--text", "Hello.", "--variable", "name"),
        ):
            code, _, err = self.run_command(*command)
            self.assertEqual(code, 2)
            self.assertIn("is not NAME=VALUE", err)

    def test_a_service_that_cannot_be_reached(self):
        nowhere = ("--address", "http://127.0.0.1:1", "--key", "fe-x")
        for command in (
            ("turn", "list"),
            ("channel", "list"),
            ("assistant", "list"),
            ("secret", "list"),
        ):
            code, _, err = self.run_command(*command, *nowhere)
            self.assertEqual(code, 3)
            self.assertIn("is it running", err)
