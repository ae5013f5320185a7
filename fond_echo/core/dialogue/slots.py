"""Asking for what a route needs: a machine without clock, words or storage of its own.

While a dialogue is open, decision 13 holds: command, goodbye, person, then the slot's value, then
another route only above a higher threshold. The machine is handed what was understood, and says
what to do; how it is worded belongs to the caller.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import date, datetime
from typing import Any, Literal

from fond_echo.core.dialogue.hours import Hours, likelier
from fond_echo.core.dialogue.typed import typed_digits, typed_time
from fond_echo.core.grammar.match import Value, match, spot
from fond_echo.core.grammar.model import Grammar, Reference
from fond_echo.core.language.language import Language
from fond_echo.core.language.registry import language as language_of

MAX_TRIES = 3
"""A slot is asked for so often, then the dialogue is given up."""


FREE = "builtin:text"
"""The rule of a slot that takes whatever is said."""


@dataclass(frozen=True)
class Slot:
    """Something a route needs.

    Attributes:
        name: unique in its route.
        rule: of the grammar, or "builtin:KIND".
        keys: what a key pressed on a telephone stands for.
        confirm: whether the value is read back before it is used.
        required: whether it is asked for; else it is only taken where it is said.
    """

    name: str
    rule: str
    keys: Mapping[str, Any] = field(default_factory=dict)
    confirm: bool = False
    required: bool = True

    @property
    def free(self) -> bool:
        """Whether any words are its value, as they are."""
        return self.rule == FREE

    @property
    def reference(self) -> Reference:
        return (
            Reference("", self.rule) if self.rule.startswith("builtin:") else Reference(self.rule)
        )


@dataclass(frozen=True)
class Filled:
    """A slot's value, and the words that gave it."""

    value: Any
    said: str


@dataclass(frozen=True)
class Open:
    """A dialogue between two turns: its route, what is filled, what is being asked; the words of a
    time of which it is asked which half of the day is meant."""

    route: str
    filled: Mapping[str, Filled] = field(default_factory=dict)
    asking: str = ""
    confirming: bool = False
    tries: int = 0
    half: str = ""

    def as_json(self) -> dict[str, Any]:
        filled = {name: [each.value, each.said] for name, each in self.filled.items()}
        return {
            "route": self.route,
            "filled": filled,
            "asking": self.asking,
            "confirming": self.confirming,
            "tries": self.tries,
            "half": self.half,
        }

    @classmethod
    def from_json(cls, reported: Mapping[str, Any]) -> Open:
        filled = {name: Filled(*each) for name, each in reported["filled"].items()}
        return cls(
            reported["route"], filled, reported["asking"], reported["confirming"],
            reported["tries"], reported.get("half", ""),
        )  # fmt: skip


Outcome = Literal["ask", "confirm", "ready", "refused", "given-up", "elsewhere", "which-half"]


@dataclass(frozen=True)
class Step:
    """What to do: ask for a slot (`slot`, `open.tries` says how often it was), read back, run the
    route, say why a value is refused and ask again, give up, or take the turn elsewhere; or ask
    which half of the day is meant, between the two times in `why`."""

    outcome: Outcome
    open: Open
    slot: str = ""
    why: str = ""


Judge = Callable[[str, Any, Mapping[str, Any]], str]
"""Why a slot's value is not possible, given the others; "" where it is."""


class SlotMachine:
    """The dialogue of one route.

    Args:
        slots: of the route, in the order in which they are asked for.
        grammar: whose rules their values are.
        now: what relative dates and times are meant from.
        judge: whether a value is possible.
        text: what was typed or heard, of which the tokens are given to `begin` and `go_on`.
        language: of what is said; English if not given.
        hours: when somebody is there, where that is known.
    """

    def __init__(
        self,
        slots: Sequence[Slot],
        grammar: Grammar,
        now: datetime,
        judge: Judge,
        text: str = "",
        language: Language | None = None,
        hours: Hours | None = None,
    ) -> None:
        self._hours = hours
        self._language = language or language_of()
        self._numbers = self._language.numbers
        self._slots = {slot.name: slot for slot in slots}
        self._grammar = grammar
        self._now = now
        self._judge = judge
        self._text = text

    def begin(self, route: str, tokens: Sequence[str], values: Sequence[Value] = ()) -> Step:
        """The first step of a route that was just taken."""
        found = self._from_parse(values)
        taken = set(found)
        found |= self._spotted(tokens, [s for s in self._slots.values() if s.name not in taken])
        return self._filled(Open(route), found)

    def begin_with(self, route: str, given: Mapping[str, str]) -> Step:
        """The first step of a route with words for its slots, by name: what they do not say is
        asked for."""
        found: dict[str, Filled] = {}
        for name, slot in self._slots.items():
            words = given.get(name, "").strip()
            if not words:
                continue
            tokens = self._language.writing.spoken_tokens(words)
            if slot.free:
                found[name] = Filled(words, " ".join(tokens))
            elif (whole := self._whole(slot, tokens)) is not None:
                found[name] = whole
        return self._filled(Open(route), found)

    def go_on(self, open_: Open, tokens: Sequence[str], key: str = "") -> Step:
        """The next step, with what was said to the last one.

        Returns:
            Step "elsewhere" where it says nothing about the slots: then another route may be
            meant, or it is asked again (`again`).
        """
        if open_.confirming:
            return self._confirmed(open_, tokens)
        requested = self._slots[open_.asking]
        if open_.half and (time := self._half_of(open_.half, tokens)):
            return self._filled(open_, {requested.name: Filled(time, time)})
        if key and key in requested.keys:
            return self._filled(open_, {requested.name: Filled(requested.keys[key], key)})
        if requested.free and self._text.strip():
            words = self._text.strip()
            return self._filled(open_, {requested.name: Filled(words, " ".join(tokens))})
        whole = self._whole(requested, tokens)
        found = (
            {requested.name: whole}
            if whole is not None
            else self._answers(open_, requested, tokens)
        )
        if not found:
            return Step("elsewhere", open_, requested.name)
        return self._filled(open_, found)

    def again(self, open_: Open) -> Step:
        """What was said fits neither the slot nor another route: ask again, or give up."""
        tries = open_.tries + 1
        if tries >= MAX_TRIES:
            return Step("given-up", open_, open_.asking)
        return Step(
            "confirm" if open_.confirming else "ask", replace(open_, tries=tries), open_.asking
        )

    def _answers(self, open_: Open, requested: Slot, tokens: Sequence[str]) -> dict[str, Filled]:
        """Values in a longer answer: for the slot asked for, for others, or for one that was
        filled before and is corrected."""
        correcting = bool(set(tokens[:3]) & self._language.wording.CORRECTING)
        missing = [
            s for s in self._slots.values() if s.name not in open_.filled and s is not requested
        ]
        filled = [self._slots[name] for name in reversed(list(open_.filled))]
        order = [*filled, requested, *missing] if correcting else [requested, *missing]
        found = self._spotted(tokens, order)
        if requested.name in found or correcting:
            return found
        # "The green one" is no number that nobody asked for.
        bare = {slot.name for slot in missing if slot.rule in ("builtin:number", "builtin:digits")}
        return {name: value for name, value in found.items() if name not in bare}

    def _confirmed(self, open_: Open, tokens: Sequence[str]) -> Step:
        filled = [self._slots[name] for name in reversed(list(open_.filled))]
        corrected = self._spotted(tokens, filled)
        changed = {n: v for n, v in corrected.items() if v.value != open_.filled[n].value}
        if changed:
            return self._filled(replace(open_, confirming=False), changed)
        said = match(self._builtin(), "boolean", list(tokens)) or self._first_word(tokens)
        literal = said.literal if said is not None else None
        if literal == "yes":
            return Step("ready", replace(open_, confirming=False))
        if literal == "no":
            last = filled[0].name
            left = {name: value for name, value in open_.filled.items() if name != last}
            return self._ask(replace(open_, filled=left, confirming=False, tries=0), last)
        return Step("elsewhere", open_)

    def _first_word(self, tokens: Sequence[str]) -> Any:
        return match(self._builtin(), "boolean", list(tokens[:1])) if tokens else None

    def _builtin(self) -> Grammar:
        return self._grammar.others["builtin:"]

    def _filled(self, open_: Open, found: Mapping[str, Filled]) -> Step:
        """Take values that are possible; ask for what is missing."""
        kept = dict(open_.filled)
        for name, value in found.items():
            others = {each: filled.value for each, filled in kept.items() if each != name}
            why = self._judge(name, value.value, others)
            if why:
                left = {each: filled for each, filled in kept.items() if each != name}
                tries = open_.tries + 1
                again = replace(open_, filled=left, asking=name, confirming=False, tries=tries)
                return Step("given-up" if tries >= MAX_TRIES else "refused", again, name, why)
            kept[name] = value
        kept = self._by_day(kept)
        for name in found:
            if either := self._either(name, kept):
                left = {each: value for each, value in kept.items() if each != name}
                asks = replace(open_, filled=left, asking=name, tries=0, half=kept[name].said)
                return Step("which-half", asks, name, " ".join(either))
        now = replace(open_, filled=kept, tries=0, half="")
        for name, slot in self._slots.items():
            if slot.required and name not in kept:
                return self._ask(now, name)
        if any(slot.confirm for slot in self._slots.values() if slot.name in kept):
            return Step("confirm", replace(now, asking="", confirming=True))
        return Step("ready", replace(now, asking=""))

    def _twice_a_day(self, filled: Filled) -> tuple[str, str] | None:
        """The two times that words may mean, such as half past three; None for other words."""
        if typed_time(filled.said):
            return None
        night, noon = (
            self._language.types.value_of_kind(
                "time", filled.said.split(), None, self._now.replace(hour=h, minute=0)
            )
            for h in (0, 12)
        )
        both = night and noon and night != noon and filled.value in (night, noon)
        return (night, noon) if both else None

    def _day(self, kept: Mapping[str, Filled]) -> date:
        dates = [v.value for n, v in kept.items() if self._slots[n].rule == "builtin:date"]
        return date.fromisoformat(dates[0]) if dates else self._now.date()

    def _either(self, name: str, kept: Mapping[str, Filled]) -> tuple[str, str] | None:
        """The two times that a slot may mean on another day than today, where neither hours nor
        daylight decide."""
        day = self._day(kept)
        if self._slots[name].rule != "builtin:time" or day == self._now.date():
            return None
        times = self._twice_a_day(kept[name])
        if times is None or likelier(times, day, self._now, self._hours) is not None:
            return None
        return times

    def _half_of(self, said: str, tokens: Sequence[str]) -> str:
        """The time that words mean with the half of the day that was said now; "" where none
        was."""
        if exact := typed_time(self._text):
            return exact
        for between in self._language.types.BEFORE_HALF:
            words = [*said.split(), *between, *tokens]
            found = [
                self._language.types.value_of_kind(
                    "time", words, None, self._now.replace(hour=h, minute=0)
                )
                for h in (0, 12)
            ]
            if found[0] and found[0] == found[1]:
                return str(found[0])
        return ""

    def _by_day(self, kept: Mapping[str, Filled]) -> dict[str, Filled]:
        """The values, with times that may be meant twice a day as the day and the hours have it."""
        found = dict(kept)
        for name, filled in kept.items():
            if self._slots[name].rule != "builtin:time":
                continue
            if (times := self._twice_a_day(filled)) is not None:
                better = likelier(times, self._day(kept), self._now, self._hours)
                found[name] = replace(filled, value=better or filled.value)
        return found

    def _ask(self, open_: Open, name: str) -> Step:
        return Step("ask", replace(open_, asking=name), name)

    def _from_parse(self, values: Sequence[Value]) -> dict[str, Filled]:
        """Slots from the parts of the rule that was said: by the slot's name, or its rule's."""
        found: dict[str, Filled] = {}
        used: set[int] = set()
        for slot in self._slots.values():
            wanted = slot.name if slot.free else slot.reference.name
            for number, value in enumerate(values):
                if number not in used and value.kind in (slot.name, wanted):
                    worth = self._worth(value)
                    if worth is not None:
                        found[slot.name] = Filled(worth, " ".join(value.tokens))
                        used.add(number)
                        break
        return found

    def _whole(self, slot: Slot, tokens: Sequence[str]) -> Filled | None:
        """The value where the whole answer is one."""
        figures = typed_digits(self._text) if slot.rule == "builtin:digits" else None
        if figures:
            return Filled(figures, " ".join(tokens))
        owner, rule = self._grammar.find(slot.reference)
        words = [word for word, *_ in self._as_read(slot, tokens)]
        parse = match(owner, rule.name, words)
        shorter = self._language.types.shortened(slot.rule.removeprefix("builtin:"), words)
        if parse is None and slot.rule.startswith("builtin:") and shorter is not None:
            words = shorter
            parse = match(owner, rule.name, words)
        # "B for boat": the boat says nothing.
        if parse is None or (parse.garbage and slot.rule != "builtin:spelled"):
            return None
        value = Value(slot.reference.name, tuple(words), parse.literal, slot.reference.builtin)
        worth = self._worth(value)
        return None if worth is None else Filled(worth, " ".join(tokens))

    def _as_read(self, slot: Slot, tokens: Sequence[str]) -> list[tuple[str, int, int]]:
        """The words that a slot's rule is held against, each with the tokens that it stands for.

        Where digits are wanted, "two hundred and fourteen" is 214 as it was typed; where something
        is spelled, a single word is its letters; where a number is wanted, a year is one.
        """
        if slot.rule == "builtin:number":
            return self._numbers.years_as_numbers(tokens)
        if slot.rule not in ("builtin:digits", "builtin:spelled"):
            return [(word, at, at + 1) for at, word in enumerate(tokens)]
        alone = slot.rule == "builtin:spelled" and len(tokens) == 1
        numbers, wording = self._numbers, self._language.wording
        if alone and not numbers.is_number_word(tokens[0]) and not wording.common(tokens[0]):
            return [(letter, 0, 1) for letter in tokens[0] if letter.isalpha()]
        return self._numbers.digit_by_digit(tokens)

    def _goes_on(self, tokens: Sequence[str], start: int, end: int) -> bool:
        """Whether more number words stand beside some: "one six three" is no number, nor is a part
        of it."""
        beside = (*tokens[max(0, start - 1) : start], *tokens[end : end + 1])
        return any(self._numbers.is_number_word(w) or w in self._numbers.TIMES for w in beside)

    def _spotted(self, tokens: Sequence[str], slots: Sequence[Slot]) -> dict[str, Filled]:
        """Values said somewhere among other words; no word gives two slots a value."""
        found: dict[str, Filled] = {}
        taken: set[int] = set()
        for slot in slots:
            if slot.rule in ("builtin:boolean", "builtin:spelled", FREE):
                continue
            read = self._as_read(slot, tokens)
            for first, after, value in spot(self._grammar, slot.reference, [w for w, *_ in read]):
                start, end = read[first][1], read[after - 1][2]
                if slot.rule == "builtin:number" and self._goes_on(tokens, start, end):
                    continue
                worth = self._worth(value)
                if worth is not None and not taken & set(range(start, end)):
                    found[slot.name] = Filled(worth, " ".join(tokens[start:end]))
                    taken.update(range(start, end))
                    break
        return found

    def _worth(self, value: Value) -> Any:
        if value.builtin:
            worth = self._language.types.value_of_kind(
                value.kind, value.tokens, value.literal, self._now
            )
            exact = typed_time(self._text) if value.kind == "time" and worth else None
            return exact or worth
        return value.literal if value.literal is not None else " ".join(value.tokens)
