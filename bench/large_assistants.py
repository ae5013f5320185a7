"""Made-up assistants of any size, for benchmarks and tests.

`alike`: each route is something done to something ("renew a library card"), said in several ways,
so that routes share verbs, nouns and frames, as a council's or a shop's assistant does. `apart`:
words that hardly come twice. The same size and seed give the same assistant.
"""

from __future__ import annotations

import random
import re

from wordfreq import top_n_list

VERBS = (
    "renew,cancel,replace,report,order,return,book,change,pay for,find,collect,extend,transfer,"
    "register,repair,exchange,check,reserve,borrow,apply for,complain about,ask about,hand in,"
    "track,insure,sell,rent,clean,measure,deliver,hire,upgrade,move,share,store,copy,translate,"
    "test,paint,dispose of"
).split(",")
KINDS = (
    "garden,library,winter,family,night,office,school,harbour,visitor,market,wedding,student,"
    "village,travel,kitchen,summer,resident,senior,holiday,weekend,sports,music,water,heating,"
    "business"
).split(",")
THINGS = (
    "waste bin,card,parking permit,bus pass,gas meter,allotment,street lamp,swimming lesson,"
    "mooring,stall,tax bill,grant,boiler,bicycle,mattress,passport photograph,locker,ticket,"
    "umbrella,pump,birth certificate,skip,meeting room,invoice,membership,vaccine,"
    "fishing licence,carpet,keyboard,lawn mower,piano,ladder,compost heap,fire alarm,hedge,"
    "poster,microscope,trailer,sofa,greenhouse,voucher,drain,fence,tent,badge,mirror,radio,"
    "wheelchair,oven,chimney"
).split(",")
FRAMES = (
    "How do I {do} {a}?",
    "I would like to {do} {a}.",
    "Can you help me {do} {a}?",
    "{Do} {a}, please.",
    "Where can I {do} {my} this week?",
    "What does it cost to {do} {a}?",
    "I need to {do} {my} before {day}.",
    "Is it too late to {do} {my}?",
    "My neighbour told me that I could {do} {a} here.",
    "{Thing}: who do I talk to when I want to {do} one?",
    "Could somebody {do} {a} for me on {day}?",
    "Do I have to come in person to {do} {my}?",
    "We moved house and want to {do} {my}.",
)
DAYS = "Monday Tuesday Wednesday Thursday Friday Saturday Sunday".split()


def alike(routes: int, seed: int = 1, examples: int = 6) -> list[list[str]]:
    """Examples by route, at most 13 each, that share verbs, nouns and frames."""
    chance = random.Random(seed)
    every = [(verb, f"{kind} {thing}") for verb in VERBS for kind in KINDS for thing in THINGS]
    return [_said(verb, thing, chance, examples) for verb, thing in chance.sample(every, routes)]


def _said(verb: str, thing: str, chance: random.Random, examples: int) -> list[str]:
    return [
        frame.format(
            do=verb, Do=verb.capitalize(), my=f"my {thing}", Thing=thing.capitalize(),
            a=f"{'an' if thing[0] in 'aeiou' else 'a'} {thing}", day=chance.choice(DAYS),
        )
        for frame in chance.sample(FRAMES, examples)
    ]  # fmt: skip


def apart(routes: int, seed: int = 1, examples: int = 6) -> list[list[str]]:
    """Examples by route, of four to six words each that hardly come twice."""
    chance = random.Random(seed)
    words = [
        word
        for word in top_n_list("en", 60_000)
        if word.isalpha() and word.isascii() and len(word) > 3
    ]
    chance.shuffle(words)
    taken = iter(words * 3)
    return [
        [
            " ".join(next(taken) for _ in range(chance.randint(4, 6))).capitalize()
            for _ in range(examples)
        ]
        for _ in range(routes)
    ]


WAYS = {"alike": alike, "apart": apart}


def files_of(routes: list[list[str]]) -> dict[str, str]:
    """The files of an assistant with these examples."""
    lines = ["assistant: large-desk", "goodbye: Goodbye.", "routes:"]
    for number, said in enumerate(routes):
        lines += [f"  - route: route-{number}", "    examples:"]
        lines += [f'      - "{text}"' for text in said]
        lines += ["    reply:", f'      text: "Page {number} of the book, from nine to five."']
    lines += ["fallback:", '  reply: {text: "I do not know that."}', ""]
    return {"assistant.yaml": "\n".join(lines)}


def reworded(files: dict[str, str], chance: random.Random) -> dict[str, str]:
    """The same files with one example worded in another way, dropped or added."""
    lines = files["assistant.yaml"].split("\n")
    items = [
        (number, found)
        for number, line in enumerate(lines)
        if (found := re.fullmatch(r"(\s+- )(\"?)([A-Z][\w ']+[.?]?)\2", line))
    ]
    number, item = chance.choice(items)
    begin, text = item[1], item[3]
    match chance.randrange(4):
        case 0:
            lines[number] = f'{begin}"{text} at the {chance.choice(KINDS)} office"'
        case 1:
            words = text.split()
            words[chance.randrange(len(words))] = chance.choice(THINGS)
            lines[number] = f'{begin}"{" ".join(words)}"'
        case 2:
            lines.insert(number, f'{begin}"{text} {chance.choice(DAYS)}"')
        case _ if any(lines[each].startswith(begin) for each in (number - 1, number + 1)):
            del lines[number]
    return {**files, "assistant.yaml": "\n".join(lines)}
