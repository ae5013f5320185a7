"""speak in all its ways, and voice."""

import json
import subprocess
import sys

from fond_echo.core.audio.containers import decode
from tests.cli.test_cli import Command

PLS = """<?xml version="1.0"?>
<lexicon version="1.0" xmlns="http://www.w3.org/2005/01/pronunciation-lexicon" alphabet="ipa" xml:lang="en">
  <lexeme><grapheme>Ossel</grapheme><phoneme>ˈɒzəl</phoneme></lexeme>
</lexicon>
"""


class Speak(Command):
    def seconds(self, *more):
        file = self.folder / "x.wav"
        code, _, err = self.run_command("speak", "The boat leaves at noon.", "-o", file, *more)
        self.assertEqual(code, 0, err)
        return decode(file.read_bytes()).clip.seconds

    def test_from_standard_input_to_standard_output(self):
        command = [
            sys.executable,
            "-m",
            "fond_echo.cli",
            "speak",
            "-",
            "-o",
            "-",
            "--format",
            "flac",
        ]
        done = subprocess.run(command, input=b"Good morning.", capture_output=True, check=True)
        self.assertEqual(decode(done.stdout).codec, "flac")
        self.assertEqual(done.stderr, b"")

    def test_sound_from_standard_input_is_converted_and_heard(self):
        def piped(*arguments, given):
            command = [sys.executable, "-m", "fond_echo.cli", *arguments]
            return subprocess.run(command, input=given, capture_output=True, check=True).stdout

        note = piped("speak", "-", "-o", "-", "--format", "opus", given=b"The boat is late.")
        self.assertEqual(decode(note).codec, "opus")
        wave = piped("clip", "convert", "-", "-o", "-", "--format", "wav", given=note)
        self.assertTrue(wave.startswith(b"RIFF"))
        heard = piped("transcribe", "-", "--expect", "The boat is late.", given=wave)
        self.assertIn(b"The boat is late.", heard)

    def test_both_to_standard_output_is_one_too_many(self):
        file = self.folder / "x.wav"
        self.assertEqual(self.run_command("speak", "Hi there.", "-o", file)[0], 0)
        code, _, err = self.run_command(
            "clip", "convert", file, "-o", "-", "--format", "ogg", "--json"
        )
        self.assertEqual((code, "cannot both go to standard output" in err), (2, True), err)

    def test_pace_is_heard_in_the_length(self):
        usual = self.seconds()
        self.assertGreater(self.seconds("--rate", "0.6"), 1.4 * usual)
        self.assertLess(self.seconds("--rate", "1.8"), 0.75 * usual)

    def test_marks_of_markup(self):
        file = self.folder / "x.ogg"
        text = '<speak>Boats <mark name="m"/>sail.</speak>'
        _, out, _ = self.run_command("speak", text, "-o", file, "--json")
        reported = json.loads(out)
        self.assertEqual(reported["marks"], [{"name": "m", "at": reported["words"][1]["start"]}])

    def test_what_is_wrong(self):
        for arguments, code, words in (
            (("Hi", "-o", "x.aiff"), 2, "must end in .ogg, .wav"),
            (("Hi", "-o", "x.ogg", "--rate", "3"), 2, "3 is not between 0.5 and 2"),
            (("Hi", "-o", "x.ogg", "--voice", "nobody"), 1, "there is no voice 'nobody'"),
            (("...", "-o", self.folder / "x.ogg"), 1, "no word to speak"),
            (("<speak><b/></speak>", "-o", self.folder / "x.ogg"), 1, "line 1, column 8: <b>"),
            (("Hi", "-o", "x.ogg", "--language", "fr"), 1, "'fr' is not known"),
        ):
            got, _, err = self.run_command("speak", *arguments)
            self.assertEqual(got, code, err)
            self.assertIn(words, err)
        self.assertFalse((self.folder / "x.ogg").exists(), "nothing half done")


class Voice(Command):
    def test_where_a_pronunciation_comes_from(self):
        lexicon = self.folder / "islands.pls"
        lexicon.write_text(PLS)
        words = ("Ossel", "boat", "boathook", "Grelvit")
        _, out, _ = self.run_command("voice", "pronounce", *words, "--lexicon", lexicon, "--json")
        found = {each["word"]: each for each in json.loads(out)}
        self.assertEqual(found["ossel"]["phonemes"][0], "AA1 Z AH0 L")
        self.assertEqual(
            [found[word.lower()]["source"] for word in words],
            ["the lexicon given", "the dictionary", "parts of it in the dictionary",
             "its letters"],
        )  # fmt: skip

    def test_voices(self):
        code, out, _ = self.run_command("voice", "list")
        self.assertEqual(code, 0)
        self.assertIn("whimbrel", out)
        _, out, _ = self.run_command("voice", "show", "tern", "--json")
        self.assertEqual(json.loads(out)["pitch"], 142)
        code, _, err = self.run_command("voice", "show", "nobody")
        self.assertEqual(code, 1)
        self.assertIn("there is no voice 'nobody'", err)

    def test_a_voice_is_adjusted_and_spoken_with(self):
        ours = self.folder / "fulmar.yaml"
        adjust = ("voice", "adjust", "tern", "-o", ours, "--set", "pitch=90", "--set", "rate=0.8")
        code, out, err = self.run_command(*adjust)
        self.assertEqual(code, 0, err)
        self.assertIn("fulmar, begins from tern", out)
        _, out, _ = self.run_command("voice", "show", ours, "--json")
        self.assertEqual((json.loads(out)["pitch"], json.loads(out)["rate"]), (90, 0.8))
        lengths = []
        for voice in ("tern", ours):
            file = self.folder / "x.wav"
            self.run_command("speak", "The boat leaves at noon.", "-o", file, "--voice", voice)
            lengths.append(decode(file.read_bytes()).clip.seconds)
        self.assertGreater(lengths[1], 1.15 * lengths[0])
        for wrong, words in (
            ("pitch=9000", "pitch 9000 is not between 50 and 400"),
            ("pich=90", "there is no setting 'pich'"),
            ("pitch=high", "fulmar.yaml:4"),
        ):
            code, _, err = self.run_command(*adjust, "--set", wrong)
            self.assertEqual(code, 1)
            self.assertIn(words, err)
        self.assertIn("pitch: 90", ours.read_text(), "nothing half done")
