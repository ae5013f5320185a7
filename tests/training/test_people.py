"""People's speech for training: made-up files in the packages' formats, and what is made of them."""

import random
import struct
import tempfile
import unittest
from pathlib import Path

import numpy as np

from fond_echo.core.recognition.features import BANDS
from fond_echo.core.recognition.graph import WordNetwork, phoneme_graph
from fond_echo.core.recognition.symbols import SYMBOLS
from fond_echo.speech.material import lexicon
from training import rooms
from training.examples import Batches, Shards
from training.people import castle, queen, sky
from training.people.aligning import align
from training.people.lines import UnreadableData, normalized
from training.people.parts import CASTLE, CHOOSE, JUDGE, part_of
from training.people.rnc import unpack
from training.people.widening import Widening


class Bits:
    """Writes what `rnc` reads: bits in little-endian words of 16, whole bytes between them."""

    def __init__(self):
        self.words, self.bits = [], []

    def put(self, value, count):
        self.bits += [(value >> k) & 1 for k in range(count)]

    def packed(self, literal):
        """One block that is all plain bytes: `literal` lies behind the word that is read ahead."""
        self.put(0, 2)
        # The table of plain runs has two codes of one bit: the count's size, and another.
        size = len(literal).bit_length()
        self.put(size + 1, 5)
        for value in range(size + 1):
            self.put(1 if value in (0, size) else 0, 4)
        self.put(0, 5)
        self.put(0, 5)
        self.put(1, 16)
        self.put(1, 1)
        self.put(len(literal) - (1 << (size - 1)), size - 1)
        while len(self.bits) % 16:
            self.bits.append(0)
        words = [
            sum(bit << k for k, bit in enumerate(self.bits[at : at + 16]))
            for at in range(0, len(self.bits), 16)
        ]
        return b"".join(struct.pack("<H", word) for word in words)


class Reading(unittest.TestCase):
    def test_words_of_subtitles(self):
        said = normalized("Well... I'd say -- 'good day', Sir! 'Cause it's 4 o'clock.")
        wanted = "well i'd say good day sir 'cause it's 4 o'clock"
        self.assertEqual(said, wanted.split())

    def test_strings_are_padded_from_their_first_letter(self):
        data = b"\x00\x05Hello\x00\x03Bye\x00"
        self.assertEqual(queen.string(data, 0, 4), ("", 1))
        self.assertEqual(queen.string(data, 1, 4), ("Hello", 8))
        self.assertEqual(queen.string(data, 8, 2), ("Bye", 12))

    def test_texts_fall_into_numbered_segments(self):
        text = "One*GTtwo*WTthree*XY01234567890four"
        found = list(queen.segments(text))
        self.assertEqual(found, [(1, "One"), (3, "three"), (4, "four")])

    def test_what_is_no_such_file_is_refused(self):
        with self.assertRaisesRegex(UnreadableData, "QTBL"):
            queen.Archive(b"nothing of the kind")
        with self.assertRaisesRegex(UnreadableData, "RNC"):
            unpack(b"nothing of the kind")
        with self.assertRaisesRegex(UnreadableData, "too few"):
            sky.Archive(struct.pack("<I", 9), b"")

    def test_files_of_an_archive(self):
        entry = struct.pack(">12sBII", b"A.DOG", 0, 36, 4)
        archive = queen.Archive(b"QTBL1.0000\0\0\1" + struct.pack(">H", 1) + entry + b"text")
        self.assertEqual((archive.names(".DOG"), archive.read("A.DOG")), (["A.DOG"], b"text"))
        with self.assertRaisesRegex(UnreadableData, r"B\.DOG"):
            archive.read("B.DOG")

    def test_plain_bytes_of_a_packed_file(self):
        literal = bytes(range(200))
        block = Bits().packed(literal)
        # The word behind the last bits was read ahead: the plain bytes lie there.
        head = b"RNC\x01" + struct.pack(">II", len(literal), len(block)) + bytes(6)
        self.assertEqual(unpack(head + block + literal + bytes(4)), literal)

    def test_a_huffman_tree_is_found_by_its_shape_and_reads_a_text(self):
        tree = self.tree()
        program = bytes(random.Random(1).randbytes(4_000))
        held = program[:2_000] + bytes(value for node in tree for value in node) + program[2_000:]
        self.assertEqual(sky.trees(held), [tree])
        text = "Boats to Pell"
        bits = "".join(self.code(tree, ord(each)) for each in text) + self.code(tree, 0)
        bits += "0" * (-len(bits) % 8)
        data = bytes(int(bits[at : at + 8], 2) for at in range(0, len(bits), 8))
        bank = struct.pack("<3H", 6, 7, 0) + bytes([len(data) * 4]) + data + bytes(4)
        self.assertEqual(sky.messages(bank), 1)
        self.assertEqual(sky.message(bank, 0, tree), text)
        with self.assertRaisesRegex(UnreadableData, "end within"):
            sky.message(bank[:9], 0, tree)

    def tree(self):
        """A tree of 245 nodes, each node's left child behind it, with 123 characters."""
        nodes, left = [], list(range(123))

        def grow(leaves):
            place = len(nodes)
            if len(leaves) == 1:
                nodes.append((0, 0, leaves[0]))
                return
            nodes.append(None)
            cut = max(1, len(leaves) // 3)
            grow(leaves[:cut])
            nodes[place] = (place + 1, len(nodes), 0)
            grow(leaves[cut:])

        grow(left)
        return tuple(nodes)

    def code(self, tree, character):
        found = {}

        def walk(node, path):
            left, right, value = tree[node]
            if not left and not right:
                found[value] = path
            else:
                walk(left, path + "0")
                walk(right, path + "1")

        walk(0, "")
        return found[character]

    def test_texts_and_recordings_by_character_and_number(self):
        def table(*texts):
            english = bytes(2)
            for text in texts:
                raw = text.encode() + b"\0"
                english += struct.pack(">H", len(raw) + 2) + raw
            others = struct.pack(">H", 2) + bytes(2)
            return (
                struct.pack(">HH", len(texts), len(english)) + english
                + (castle.LANGUAGES - 1) * others
            )  # fmt: skip

        data = b"head" + table("", "THE DOOR IS SHUT", " ") + table("", "GOOD EVENING")
        found, end = castle.texts(data, 4)
        self.assertEqual(found, ["", "THE DOOR IS SHUT", " "])
        self.assertEqual(castle.texts(data, end), (["", "GOOD EVENING"], len(data)))
        with self.assertRaisesRegex(UnreadableData, "no table of texts at byte"):
            castle.texts(data, end + 1)
        with tempfile.TemporaryDirectory() as package:
            folder = Path(package) / castle.FOLDER / "en"
            folder.mkdir(parents=True)
            whole = bytes(castle.TABLES) + data[4:] + 8 * table("")
            (folder / "drascula.dat").write_bytes(whole)
            for name, size in (("1.ALS", 4_000), ("2.ALS", 4_000), ("D1.ALS", 5_000),
                               ("D2.ALS", 4_000), ("9.ALS", 4_000), ("1.ALG", 9)):  # fmt: skip
                (folder / name).write_bytes(bytes([128]) * size)
            lines = list(castle.lines(Path(package)))
        self.assertEqual(
            [(each.name, each.text, each.speaker) for each in lines],
            [("hero-001", "THE DOOR IS SHUT", "hero"), ("d-001", "GOOD EVENING", "d")],
        )
        self.assertEqual((len(lines[1].sound), lines[1].sound.rate), (5_000, 11_025))

    def test_nobody_is_trained_on_and_judged_by(self):
        self.assertFalse(JUDGE & CHOOSE)
        for speaker in JUDGE:
            self.assertEqual(part_of("queen", speaker, 0), "test")
        self.assertLess({*CASTLE}, {*castle.CHARACTERS})
        self.assertEqual(part_of("castle", "hero", 0), "train")
        parts = {part_of("sky", "", number) for number in range(40)}
        self.assertEqual(parts, {"train", "choose, shared"})


class Making(unittest.TestCase):
    def test_the_pronunciation_that_was_used_is_found_with_its_frames(self):
        graph = phoneme_graph(WordNetwork.of_phrases([["either", "boat"]], around=False), lexicon())
        for vowel in ("IY", "AY"):
            said = [vowel, "DH", "ER", "B", "OW", "T"]
            logs = np.full((24, 40), -8.0, np.float32)
            logs[:, 0] = -0.01
            for k, sound in enumerate(said):
                logs[3 + 3 * k, 0], logs[3 + 3 * k, SYMBOLS[sound]] = -8.0, -0.01
            found = align(logs, graph)
            self.assertEqual(found.sounds.tolist(), [SYMBOLS[each] for each in said])
            self.assertEqual(found.labels[3], SYMBOLS[vowel])
            self.assertEqual((found.labels[0], found.labels[-1]), (0, 0))
            self.assertLess(found.loss, 0.2)
        self.assertIsNone(align(logs[:3], graph), "too few frames for so many phonemes")

    def test_missing_bands_are_filled_as_speech_has_them(self):
        rng = np.random.default_rng(1)
        low = rng.normal(0, 1, (900, 1)).astype(np.float32)
        logs = np.concatenate([np.repeat(low, 46, axis=1), np.repeat(-low, 18, axis=1)], axis=1)
        logs += rng.normal(0, 0.05, logs.shape).astype(np.float32)
        widening = Widening.learned([logs[:600]], 46)
        bare = logs[600:].copy()
        bare[:, 46:] = -30
        found = widening.fill(bare, rng)
        np.testing.assert_array_equal(found[:, :46], bare[:, :46])
        match = np.corrcoef(found[:, 46:].ravel(), logs[600:, 46:].ravel())[0, 1]
        self.assertGreater(match, 0.9)

    def test_amr_keeps_what_is_said_and_takes_what_is_above(self):
        times = np.arange(16_000) / 16_000
        tone = (0.3 * np.sin(2 * np.pi * 500 * times)).astype(np.float32)
        high = (0.3 * np.sin(2 * np.pi * 5_000 * times)).astype(np.float32)
        for bits in rooms.AMR_RATES:
            kept, gone = rooms.amr(tone, bits), rooms.amr(high, bits)
            self.assertEqual(len(kept), len(tone))
            self.assertGreater(kept[4_000:].std(), 10 * gone[4_000:].std())

    def test_every_example_comes_once_before_any_comes_again(self):
        with tempfile.TemporaryDirectory() as folder:
            lengths = np.arange(10, 40)
            np.savez(
                Path(folder) / "shard-1.npz",
                energies=np.zeros((lengths.sum(), BANDS), np.float16),
                labels=np.repeat(lengths, lengths).astype(np.uint8),
                sounds=np.ones(2 * len(lengths), np.uint8),
                frames=lengths, counts=np.full(len(lengths), 2),
            )  # fmt: skip
            batches = Batches(Shards(Path(folder)), 100, random.Random(3))
            for _ in range(2):
                seen = []
                while len(seen) < len(lengths):
                    seen += [int(one.labels[0]) for one in batches.next()]
                self.assertEqual(sorted(seen), lengths.tolist())


if __name__ == "__main__":
    unittest.main()
