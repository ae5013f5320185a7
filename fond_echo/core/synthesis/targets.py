"""What each phoneme aims at: formants, frication, durations.

Vowel formants are those of men in Hillenbrand et al. (1995, JASA 97) and Peterson and Barney
(1952, JASA 24); a speaker sits between or beyond the two. Consonant loci, frication and
durations follow Klatt (1980, JASA 67) and Allen, Hunnicutt and Klatt (1987), as adjusted by
looking at spectrograms of the result.
"""

from __future__ import annotations

Formants = tuple[float, float, float]

HILLENBRAND: dict[str, Formants] = {
    "IY": (342, 2322, 3000),
    "IH": (427, 2034, 2684),
    "EH": (580, 1799, 2605),
    "AE": (588, 1952, 2601),
    "AA": (768, 1333, 2522),
    "AO": (652, 997, 2538),
    "UH": (469, 1122, 2434),
    "UW": (378, 997, 2343),
    "AH": (623, 1200, 2550),
    "ER": (474, 1379, 1710),
}

PETERSON_BARNEY: dict[str, Formants] = {
    "IY": (270, 2290, 3010),
    "IH": (390, 1990, 2550),
    "EH": (530, 1840, 2480),
    "AE": (660, 1720, 2410),
    "AA": (730, 1090, 2440),
    "AO": (570, 840, 2410),
    "UH": (440, 1020, 2240),
    "UW": (300, 870, 2240),
    "AH": (640, 1190, 2390),
    "ER": (490, 1350, 1690),
}

DIPHTHONGS: dict[str, tuple[Formants, Formants]] = {
    "EY": ((490, 1900, 2580), (340, 2200, 2750)),
    "AY": ((680, 1250, 2500), (400, 1950, 2560)),
    "OY": ((540, 900, 2420), (370, 1900, 2480)),
    "AW": ((680, 1300, 2500), (440, 950, 2350)),
    "OW": ((530, 1000, 2400), (400, 850, 2300)),
}

LOCI: dict[str, Formants] = {
    "W": (290, 610, 2150),
    "Y": (260, 2150, 3020),
    "R": (330, 1100, 1450),
    "L": (360, 1000, 2750),
    "M": (400, 1150, 2130),
    "N": (400, 1550, 2470),
    "NG": (400, 2000, 2700),
    "F": (340, 1100, 2080),
    "V": (250, 1100, 2080),
    "TH": (320, 1350, 2540),
    "DH": (270, 1350, 2540),
    "S": (320, 1600, 2550),
    "Z": (260, 1600, 2550),
    "SH": (300, 1900, 2650),
    "ZH": (280, 1900, 2650),
    "P": (300, 1000, 2150),
    "B": (200, 1000, 2150),
    "T": (300, 1750, 2650),
    "D": (200, 1750, 2650),
    "K": (280, 1900, 2500),
    "G": (200, 1900, 2500),
    "CH": (300, 1850, 2700),
    "JH": (250, 1850, 2700),
    "HH": (500, 1500, 2500),
}

NEUTRAL: Formants = (500, 1450, 2500)

COARTICULATION = {
    "W": 0.1, "Y": 0.1, "R": 0.15, "L": 0.25, "M": 0.6, "N": 0.4, "NG": 0.6,
    "F": 0.6, "V": 0.6, "TH": 0.4, "DH": 0.4, "S": 0.35, "Z": 0.35, "SH": 0.25, "ZH": 0.25,
    "P": 0.65, "B": 0.65, "T": 0.35, "D": 0.35, "K": 0.75, "G": 0.75,
    "CH": 0.25, "JH": 0.25, "HH": 1.0,
}  # fmt: skip
"""How far a consonant's formants give way to its neighbours': 0 not at all, 1 wholly."""

FRICATION: dict[str, tuple[int, int, int, int, int, int, int]] = {
    "F": (-60, -60, -60, -60, -60, -60, -22),
    "V": (-60, -60, -60, -60, -60, -60, -24),
    "TH": (-60, -60, -60, -60, -34, -26, -30),
    "DH": (-60, -60, -60, -60, -38, -30, -33),
    "S": (-60, -60, -45, -22, -4, -3, -40),
    "Z": (-60, -60, -46, -24, -8, -7, -42),
    "SH": (-50, -6, -4, -8, -14, -20, -50),
    "ZH": (-50, -10, -8, -12, -18, -24, -50),
    "P": (-24, -28, -40, -44, -50, -50, -18),
    "B": (-24, -28, -40, -44, -50, -50, -20),
    "T": (-50, -30, -14, -8, -3, -5, -30),
    "D": (-50, -30, -14, -10, -6, -8, -32),
    "K": (-2, -10, -20, -24, -30, -34, -40),
    "G": (-4, -12, -22, -26, -32, -36, -40),
    "CH": (-50, -8, -3, -6, -10, -16, -50),
    "JH": (-50, -12, -7, -10, -14, -20, -50),
}
"""dB for the parallel resonators at F2, F3, F4 and three above, and for the bypass."""

DURATIONS: dict[str, tuple[float, float]] = {
    "IY": (155, 55), "IH": (135, 40), "EH": (150, 70), "AE": (200, 80), "AA": (210, 90),
    "AH": (140, 50), "AO": (220, 90), "UH": (150, 60), "UW": (190, 70), "ER": (180, 80),
    "EY": (190, 80), "AY": (240, 120), "OY": (270, 150), "AW": (250, 110), "OW": (210, 80),
    "W": (80, 50), "Y": (80, 40), "R": (80, 40), "L": (80, 45), "HH": (75, 30),
    "M": (75, 50), "N": (70, 45), "NG": (95, 60), "F": (100, 70), "V": (65, 40),
    "TH": (95, 60), "DH": (55, 30), "S": (110, 65), "Z": (85, 45), "SH": (110, 75),
    "ZH": (80, 45), "P": (80, 45), "B": (75, 45), "T": (70, 40), "D": (65, 40),
    "K": (75, 45), "G": (70, 45), "CH": (60, 35), "JH": (55, 35),
}  # fmt: skip
"""Inherent and shortest duration in ms."""

VOWELS = frozenset(HILLENBRAND) | frozenset(DIPHTHONGS)
LAX = frozenset(["IH", "EH", "AE", "AH", "UH", "AO"])
STOPS = frozenset(["P", "B", "T", "D", "K", "G"])
AFFRICATES = frozenset(("CH", "JH"))
NASALS = frozenset(("M", "N", "NG"))
GLIDES = frozenset(("W", "Y", "R", "L"))
FRICATIVES = frozenset(["F", "V", "TH", "DH", "S", "Z", "SH", "ZH"])

BURST_MS = {"P": 6, "B": 5, "T": 10, "D": 7, "K": 16, "G": 12}
VOICE_ONSET_MS = {"P": 42, "T": 52, "K": 56}
