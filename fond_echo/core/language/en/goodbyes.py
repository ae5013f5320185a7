"""Whether a sentence ends a talk (English): farewells, wishes, "that's all", "I have to go", in the
many ways in which these are put."""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import lru_cache

from fond_echo.core.language.ends import without_ends

FAREWELLS = frozenset("bye goodbye cheerio farewell".split())
_AROUND = FAREWELLS | frozenset(
    (
        "please thanks thank you very much so well ok okay great perfect lovely wonderful alright "
        "brilliant fine then now all right good cheers for your help and no yes oh ah um uh just a "
        "lot lots many again everyone really that was helpful million"
    ).split()
)
"""What may stand before and after."""

_ABOUT = frozenset(
    "say says said saying word mean means how what when where who why which does is are".split()
)
"""In a sentence with these, a farewell is spoken of, or something is asked."""

MAX_WORDS = 12
_MAX_BESIDE_A_FAREWELL = 8

_SIDE = r"(?: (?:for|from|on) (?:me|us|now|today|tonight|the moment|my side|our side|my end))*"
_TIME = r"(?:day|evening|night|afternoon|morning|weekend|week|one|time|trip|holiday|journey)"
_PATTERNS = (
    r"(?:(?:i|we) (?:think|guess|believe|suppose) )?"
    r"(?:that's|that is|that was|that'll be|that will be|this is|this was|it's)"
    r" (?:really |about |just |pretty much )?(?:all|it|everything|enough|me done|us done)"
    r"(?: (?:i|we) (?:need|needed|want|wanted|have|had)(?: to (?:know|ask|say))?)?",
    r"(?:(?:i|we) (?:have|'ve got) |there are )?no (?:other|more|further) questions",
    r"(?:i'll|i will|let me|i want to|i'd like to|time to) (?:say|wish you)(?: a| you)?"
    r" (?:goodbye|good bye|bye|good night|farewell)(?: now)?",
    r"(?:i'll |i will )?see you (?:all )?(?:soon|later|then|again|around|tomorrow|next \w+|"
    r"on \w+day|in the morning)",
    r"(?:we'll |i'll )?(?:talk|speak|chat)(?: to you| with you)? (?:soon|later|again|tomorrow)",
    r"(?:let's |let us |we can |you can |you may |i want to |i'd like to |shall we )?"
    r"(?:end|close|finish|stop|leave)(?: (?:it|things))?"
    r"(?: here| there| at that|(?: of)?(?: the| this| our)? (?:conversation|chat|call|talk))",
    r"(?:i|we|i've|we've|i'd|i'm|we're|i'll|we'll)(?: (?:must|should|better|got to|gotta|have to|"
    r"need to|ought to|am|are|will))? "
    r"(?:go|be going|be off|run|dash|rush|fly|leave|leaving|going|off)(?: now)?",
    r"(?:enjoy|have) (?:the rest of )?(?:a|your|the) (?:\w+ ){0,2}" + _TIME + r"(?: too)?",
    r"(?:let's |we can |i'll |i will )?(?:call it a day|leave it (?:here|there|at that))",
    r"(?:i think |i guess |i believe )?"
    r"(?:i|we|i'm|we're|i am|we are|all) (?:all )?(?:done|finished|sorted|set)(?: here)?",
    r"(?:i|we) (?:don't|do not|won't) (?:need|want|have) (?:anything|any|more)"
    r"(?: (?:else|more|other|further|help|questions))*",
    r"(?:there's |there is |i need |we need |i want )?(?:nothing|no) (?:more|else|further)"
    r"(?: (?:questions|to ask|to say))?",
    r"(?:i think |i guess |i believe )?(?:i|we)(?:'ve| have)?(?: got)?(?: now)?"
    r" (?:all|everything|what)(?: that)?"
    r" (?:i|we) (?:need|needed|want|wanted|came for|was after|asked for)(?: to know)?",
    r"(?:you've|you have) been (?:very |most |really |so |a great )?"
    r"(?:helpful|kind|great|wonderful|help)",
    r"(?:there's |there is )?nothing (?:else|more) (?:i|we) (?:need|want)(?:ed)?(?: to know)?",
    r"(?:we are|we're|i'm|i am) good to go",
    r"(?:until|till) (?:next time|then|tomorrow|later|we meet again)",
    r"(?:take care|safe travels|all the best|so long)(?: of yourself)?",
    r"(?:you can |please |i'll |i will |i'm |i am )?hang(?:ing)? up(?: now)?",
    r"(?:that|this|it)(?:'ll| will| would)? (?:do|cover|covers|does)(?: it| me)?(?: all)?"
    r"(?: nicely)?",
    r"that's (?:plenty|me|us)(?: (?:done|sorted|finished|all set))?",
    r"(?:i'll|i will|let me) (?:leave you to it|let you go|let you get on)",
    r"(?:i'm |we're |it's )?all good(?: (?:thanks|thank you|cheers|here))*",
    r"(?:it's )?time to (?:go|leave|stop)",
    r"ta ra",
)
_PARTING = re.compile("|".join(f"(?:{each}){_SIDE}" for each in _PATTERNS))


@lru_cache(maxsize=10_000)
def _parts(sentence: str) -> bool:
    return _PARTING.fullmatch(sentence) is not None


def says_goodbye(tokens: Sequence[str]) -> bool:
    """Whether a sentence ends the talk.

    Args:
        tokens: spoken tokens.
    """
    if not tokens or len(tokens) > MAX_WORDS:
        return False
    if len(tokens) <= _MAX_BESIDE_A_FAREWELL and not _ABOUT & set(tokens):
        said = without_ends(tokens, _AROUND - FAREWELLS)
        if said and (said[0] in FAREWELLS or said[-1] in FAREWELLS):
            return True
    return any(_parts(" ".join(each)) for each in (tokens, without_ends(tokens, _AROUND)) if each)
