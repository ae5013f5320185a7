"""Letters to sounds: how a word that no lexicon knows is probably said (English).

Rules are tried from the top for each place in the word; the first that fits gives phonemes and
moves on. In the contexts, `#` is a word edge, `V` a vowel letter, `C` a consonant letter.
"""

from __future__ import annotations

import unicodedata

from fond_echo.core.language.phonemes import VOWELS, Pronunciation

_RULES_TEXT = """
# left | letters | right | phonemes
#|kn||N
#|gn||N
#|wr||R
#|ps||S
#|pn||N
#|x||Z
#|mc||M AH K
|tch||CH
|sch||SH
|ch|r|K
|ch||CH
|sh||SH
#|th|e#|DH
#|th|is|DH
#|th|at|DH
|th|er#|DH
|th||TH
|ph||F
|gh|#|
#|gh||G
|gh||
|ck||K
|dge||JH
|ng|#|NG
|ng|s#|NG
|ng|V|NG G
|nk||NG K
|mb|#|M
|mn|#|M
#|qu||K W
|que|#|K
|qu||K W
|tion||SH AH N
|ssion||SH AH N
V|sion||ZH AH N
|sion||SH AH N
|cian||SH AH N
|cious||SH AH S
|tious||SH AH S
|ture|#|CH ER
|sure|#|ZH ER
|ough|#|OW
|ought||AO T
|aught||AO T
|eigh||EY
|igh||AY
|augh||AE F
|eau||OW
|oar||AO R
|oor||AO R
|our|#|AW ER
|ear|C|ER
|ear||IH R
|eer||IH R
|ier||IH R
|air||EH R
|are|#|EH R
|ere|#|IH R
|ire|#|AY ER
|ore||AO R
|ure|#|Y UH R
|wor||W ER
|war||W AO R
|wa|s|W AA
|ar|V|EH R
|ar||AA R
|er|V|EH R
|er||ER
|ir||ER
|or||AO R
|ur||ER
|yr||ER
|oo|k|UH
|oo||UW
|ou|s#|AH
|ou||AW
|ow|#|OW
|ow|n#|OW
|ow||AW
|oa||OW
|oi||OY
|oy||OY
|ee||IY
|ea|d#|EH
|ea||IY
|ei||IY
|ey|#|IY
|ey||EY
|eu||UW
|ew||UW
|ai||EY
|ay||EY
|au||AO
|aw||AO
|ie|#|AY
|ie|C|IY
|ue|#|UW
|ui||UW
|al|k|AO
|all||AO L
C|le|#|AH L
C|les|#|AH L Z
C|re|#|ER
V|ss|el#|S
|el|#|AH L
|en|#|AH N
|on|#|AH N
|an|#|AH N
|um|#|AH M
|us|#|AH S
|et|#|AH T
|age|#|IH JH
|ive|#|IH V
|ice|#|IH S
|ing|#|IH NG
|ism|#|IH Z AH M
|ous|#|AH S
|ful|#|F AH L
|able|#|AH B AH L
|ness|#|N AH S
|ment|#|M AH N T
|less|#|L AH S
t|ed|#|IH D
d|ed|#|IH D
VC|ed|#|D
CC|ed|#|D
|e|#|
|es|#|Z
|a|#|AH
|a|Ce#|EY
|a|Cing#|EY
|a|tion|EY
|e|Ce#|IY
|i|Ce#|AY
|i|Cing#|AY
|i|nd#|AY
|i|ld#|AY
|i|#|IY
|o|Ce#|OW
|o|Cing#|OW
|o|ld|OW
|o|st#|OW
|o|#|OW
|u|Ce#|UW
|u|Cing#|UW
|u|#|UW
#C|y|#|AY
#CC|y|#|AY
|y|#|IY
#|y|V|Y
|y|Ce#|AY
|cc|e|K S
|cc|i|K S
|c|e|S
|c|i|S
|c|y|S
|gg||G
|g|e#|JH
|g|y|JH
|ge|V|JH
|bb||B
|cc||K
|dd||D
|ff||F
|jj||JH
|kk||K
|ll||L
|mm||M
|nn||N
|pp||P
|rr||R
|ss||S
|tt||T
|vv||V
|zz||Z
V|s|e#|Z
V|s|V|Z
V|s|#|Z
|a||AE
|b||B
|c||K
|d||D
|e||EH
|f||F
|g||G
|h||HH
|i||IH
|j||JH
|k||K
|l||L
|m||M
|n||N
|o||AA
|p||P
|q||K
|r||R
|s||S
|t||T
|u||AH
|v||V
|w||W
|x||K S
|y||IH
|z||Z
"""

_VOWEL_LETTERS = frozenset("aeiouy")

NAMES: dict[str, Pronunciation] = {
    letter: tuple(sounds.split())
    for letter, sounds in {
        "a": "EY1", "b": "B IY1", "c": "S IY1", "d": "D IY1", "e": "IY1", "f": "EH1 F",
        "g": "JH IY1", "h": "EY1 CH", "i": "AY1", "j": "JH EY1", "k": "K EY1", "l": "EH1 L",
        "m": "EH1 M", "n": "EH1 N", "o": "OW1", "p": "P IY1", "q": "K Y UW1", "r": "AA1 R",
        "s": "EH1 S", "t": "T IY1", "u": "Y UW1", "v": "V IY1", "w": "D AH1 B AH0 L Y UW0",
        "x": "EH1 K S", "y": "W AY1", "z": "Z EH1 D",
    }.items()
}  # fmt: skip
"""How single letters are named when a word is spelled."""


def _parse(text: str) -> dict[str, list[tuple[str, str, str, list[str]]]]:
    rules: dict[str, list[tuple[str, str, str, list[str]]]] = {}
    for line in text.strip().splitlines():
        if line.startswith("# "):
            continue
        left, letters, right, sounds = line.split("|")
        rules.setdefault(letters[0], []).append((left, letters, right, sounds.split()))
    return rules


_RULES = _parse(_RULES_TEXT)


def _fits(pattern: str, text: str) -> bool:
    """Whether `text` begins with the pattern."""
    if len(text) < len(pattern):
        return False
    for want, have in zip(pattern, text, strict=False):
        if want == "V":
            if have not in _VOWEL_LETTERS:
                return False
        elif want == "C":
            if have in _VOWEL_LETTERS or have == "#":
                return False
        elif want != have:
            return False
    return True


_SPELT = str.maketrans(
    {"æ": "ae", "œ": "oe", "ø": "o", "ß": "ss", "ð": "th", "þ": "th", "ł": "l", "đ": "d", "ı": "i"}
)


def _plain(text: str) -> str:
    return unicodedata.normalize("NFKD", text.lower().translate(_SPELT))


def knows(letter: str) -> bool:
    """Whether a letter is one of the Latin alphabet, with or without accents."""
    return any("a" <= each <= "z" for each in _plain(letter))


def pronounce_by_letters(word: str) -> Pronunciation:
    """Phonemes with stress for a word of letters; accents and other characters are passed over."""
    word = "#" + "".join(letter for letter in _plain(word) if "a" <= letter <= "z") + "#"
    sounds: list[str] = []
    place = 1
    while word[place] != "#":
        before = word[:place]
        for left, letters, right, found in _RULES[word[place]]:
            after = word[place + len(letters) :]
            if not word.startswith(letters, place) or not _fits(right, after):
                continue
            if left and (len(before) < len(left) or not _fits(left, before[-len(left) :])):
                continue
            sounds += found
            place += len(letters)
            break
    return _stressed(sounds)


def _stressed(sounds: list[str]) -> Pronunciation:
    """Primary stress on the first syllable, or before -tion and the like; AH is never stressed
    where another vowel can be."""
    vowels = [place for place, sound in enumerate(sounds) if sound in VOWELS]
    if not vowels:
        return tuple(sounds)
    main = vowels[0]
    if len(vowels) > 2 and sounds[-3:-1] == ["SH", "AH"]:
        main = vowels[-2]
    elif sounds[main] == "AH" and len(vowels) > 1 and len(sounds) < 8:
        full = [place for place in vowels if sounds[place] != "AH"]
        main = full[0] if full else main
    return tuple(
        sound + ("1" if place == main else "0") if sound in VOWELS else sound
        for place, sound in enumerate(sounds)
    )
