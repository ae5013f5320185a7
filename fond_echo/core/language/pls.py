"""Pronunciation lexicons: PLS 1.0 (W3C), with the International Phonetic Alphabet.

Read without DTD or entities. A lexeme has graphemes, and phonemes or an alias: other words that it
is said as. What the alphabet has and our 39 phonemes have not becomes the nearest that they have.
"""

from __future__ import annotations

from xml.parsers import expat
from xml.sax.saxutils import escape

from fond_echo.core.language.errors import LexiconError
from fond_echo.core.language.phonemes import VOWELS, Pronunciation, base, stress

MAX_BYTES = 2_000_000
MAX_LEXEMES = 5_000

Sounds = tuple[tuple[str, str], ...]
"""Words and how each is said: its phonemes apart by spaces, or "=" and the words that it is said
as. A word may stand several times."""

_IPA = {
    "tʃ": "CH", "t͡ʃ": "CH", "dʒ": "JH", "d͡ʒ": "JH", "eɪ": "EY", "ei": "EY", "aɪ": "AY", "ai": "AY",
    "ɔɪ": "OY", "aʊ": "AW", "au": "AW", "oʊ": "OW", "əʊ": "OW", "ou": "OW", "ɪə": "IH R",
    "eə": "EH R", "ɛə": "EH R", "ʊə": "UH R", "iː": "IY", "ɑː": "AA", "ɔː": "AO", "uː": "UW",
    "ɜː": "ER", "ɜ": "ER", "ɝ": "ER", "ɚ": "ER", "i": "IY", "ɪ": "IH", "e": "EH", "ɛ": "EH",
    "æ": "AE", "a": "AE", "ɑ": "AA", "ɒ": "AA", "ɔ": "AO", "o": "OW", "ʊ": "UH", "u": "UW",
    "ʌ": "AH", "ə": "AH", "ɐ": "AH", "ɨ": "IH", "y": "UW", "ø": "ER", "œ": "ER",
    "p": "P", "b": "B", "t": "T", "d": "D", "k": "K", "g": "G", "ɡ": "G", "m": "M", "n": "N",
    "ŋ": "NG", "f": "F", "v": "V", "θ": "TH", "ð": "DH", "s": "S", "z": "Z", "ʃ": "SH", "ʒ": "ZH",
    "h": "HH", "l": "L", "ɫ": "L", "r": "R", "ɹ": "R", "ɾ": "R", "ʁ": "R", "j": "Y", "w": "W",
    "x": "K", "ç": "HH", "ɬ": "L", "ɲ": "N Y", "ʎ": "L Y", "β": "V", "ʔ": "",
}  # fmt: skip
_MAX_SYMBOL = max(map(len, _IPA))
_IGNORED = frozenset(".ː‿ ͡|")


MAX_SIGNS = 200
"""Of one word's pronunciation. The longest words have about forty."""


def from_ipa(text: str) -> Pronunciation:
    """The phonemes of a word in the International Phonetic Alphabet.

    Stress marks stand before their syllable; a word without any is stressed on its first vowel.

    Raises:
        ValueError: with the sign that is not known, or all of it where it is too long for a word.
    """
    if len(text) > MAX_SIGNS:
        raise ValueError(f"{text[:20]}… ({len(text):,} signs)")
    found: list[str] = []
    stress, at, marked = "0", 0, False
    while at < len(text):
        sign = text[at]
        if sign in "ˈ'ˌ":
            stress = "2" if sign == "ˌ" else "1"
            marked = marked or stress == "1"
            at += 1
            continue
        size = next((n for n in range(_MAX_SYMBOL, 0, -1) if text[at : at + n] in _IPA), 0)
        if not size:
            if sign not in _IGNORED:
                raise ValueError(sign)
            at += 1
            continue
        for phoneme in _IPA[text[at : at + size]].split():
            vowel = phoneme in VOWELS
            found.append(phoneme + stress if vowel else phoneme)
            stress = "0" if vowel else stress
        at += size
    if not marked:
        first = next((k for k, each in enumerate(found) if each[-1].isdigit()), None)
        if first is not None:
            found[first] = found[first][:-1] + "1"
    return tuple(found)


_SIGNS = {
    "AA": "ɑ", "AE": "æ", "AH": "ʌ", "AO": "ɔ", "AW": "aʊ", "AY": "aɪ", "EH": "ɛ", "ER": "ɝ",
    "EY": "eɪ", "IH": "ɪ", "IY": "i", "OW": "oʊ", "OY": "ɔɪ", "UH": "ʊ", "UW": "u", "CH": "tʃ",
    "DH": "ð", "HH": "h", "JH": "dʒ", "NG": "ŋ", "SH": "ʃ", "TH": "θ", "Y": "j", "ZH": "ʒ",
}  # fmt: skip


def to_ipa(said: Pronunciation) -> str:
    """A pronunciation in the International Phonetic Alphabet; `from_ipa` reads it.

    >>> to_ipa(("P", "EH1", "L"))
    'pˈɛl'
    >>> to_ipa(("B", "R", "AE1", "N", "IH0", "K"))
    'bɹˈænɪk'
    """
    found = ""
    for symbol in said:
        plain, stressed = base(symbol), stress(symbol)
        found += {"1": "ˈ", "2": "ˌ"}.get(stressed, "")
        if symbol == "AH0":
            found += "ə"
        else:
            found += _SIGNS.get(plain, "ɹ" if plain == "R" else plain.lower())
    return found


def lexeme(word: str, said: Pronunciation) -> str:
    """An entry for a lexicon: a word as it is said.

    >>> lexeme("Pell", ("P", "EH1", "L"))
    '<lexeme><grapheme>Pell</grapheme><phoneme>pˈɛl</phoneme></lexeme>'
    """
    sounds = escape(to_ipa(said))
    return f"<lexeme><grapheme>{escape(word)}</grapheme><phoneme>{sounds}</phoneme></lexeme>"


class _Reader:
    def __init__(self, text: str) -> None:
        self._parser = expat.ParserCreate()
        self._parser.buffer_text = True
        self._parser.StartElementHandler = self._begin
        self._parser.EndElementHandler = self._end
        self._parser.CharacterDataHandler = self._characters
        self._parser.StartDoctypeDeclHandler = self._refused
        self._parser.EntityDeclHandler = self._refused
        self._text = text
        self._words: list[str] = []
        self._ways: list[str] = []
        self._said = ""
        self._depth = 0
        self._lexemes = 0
        self._alphabet = [""]
        self.sounds: list[tuple[str, str]] = []
        self._alias = ""

    def read(self) -> None:
        try:
            self._parser.Parse(self._text.encode(), True)
        except expat.ExpatError as error:
            what = f"not XML: {expat.errors.messages[error.code]}"
            raise LexiconError(what, line=error.lineno, column=error.offset + 1) from error

    def _fault(self, what: str, remedy: str = "") -> LexiconError:
        line, column = self._parser.CurrentLineNumber, self._parser.CurrentColumnNumber + 1
        return LexiconError(what, line=line, column=column, remedy=remedy)

    def _refused(self, *_: object) -> None:
        raise self._fault("a document type is not read", "leave it out")

    def _begin(self, name: str, attributes: dict[str, str]) -> None:
        name = name.rpartition(":")[2]
        self._depth += 1
        if self._depth == 1 and name != "lexicon":
            raise self._fault(f"a lexicon begins with <lexicon>, not <{name}>")
        if self._depth > 6:
            raise self._fault("elements are nested too deep")
        self._alphabet.append(attributes.get("alphabet", self._alphabet[-1]))
        self._said = ""
        if name == "lexeme":
            self._lexemes += 1
            if self._lexemes > MAX_LEXEMES:
                raise self._fault(f"more than {MAX_LEXEMES:,} lexemes")
            self._words, self._ways, self._alias = [], [], ""

    def _characters(self, text: str) -> None:
        self._said += text

    def _end(self, name: str) -> None:
        name, said = name.rpartition(":")[2], self._said.strip()
        alphabet = self._alphabet.pop()
        self._depth -= 1
        if name == "grapheme":
            self._words.append(said.lower())
        elif name == "alias":
            self._alias = said
        elif name == "phoneme":
            self._phoneme(said, alphabet)
        elif name == "lexeme":
            self._close()

    def _phoneme(self, said: str, alphabet: str) -> None:
        if alphabet != "ipa":
            raise self._fault(f"the alphabet {alphabet!r} is not read", 'use alphabet="ipa"')
        try:
            way = from_ipa(said)
        except ValueError as error:
            raise self._fault(f"{error.args[0]!r} in {said!r} is no sound that is known") from error
        if way:
            self._ways.append(" ".join(way))

    def _close(self) -> None:
        if not self._words or not (self._ways or self._alias):
            raise self._fault("a lexeme needs a grapheme, and a phoneme or an alias")
        for word in self._words:
            if not word or " " in word:
                raise self._fault(f"the grapheme {word!r} is not one word")
            self.sounds += [(word, way) for way in self._ways]
            if self._alias:
                self.sounds.append((word, f"={self._alias}"))


def read_pls(text: str) -> Sounds:
    """Words with their sounds.

    Raises:
        LexiconError: with its place.
    """
    if len(text) > MAX_BYTES:
        what = f"{len(text):,} characters are too many"
        raise LexiconError(what, remedy=f"at most {MAX_BYTES:,}")
    reader = _Reader(text)
    reader.read()
    return tuple(reader.sounds)
