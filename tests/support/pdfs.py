"""Small PDFs (ISO 32000-1): pages of lines of text, with an outline."""

from __future__ import annotations

import zlib
from collections.abc import Mapping, Sequence


def pdf_of(pages: Sequence[Sequence[str]], titles: Mapping[int, str] = {}) -> bytes:
    """A PDF of pages.

    Args:
        pages: the lines of each.
        titles: of the outline, by the number of the page that each leads to, from 1.
    """
    objects: list[bytes] = [b"", b"", b"<</Type/Font/Subtype/Type1/BaseFont/Helvetica>>"]
    numbers = []
    for lines in pages:
        shown = "\n".join(f"({each.translate(ESCAPED)}) Tj T*" for each in lines)
        stream = zlib.compress(f"BT /F1 11 Tf 14 TL 60 780 Td\n{shown}\nET".encode("latin-1"))
        head = f"<</Length {len(stream)}/Filter/FlateDecode>>stream\n".encode()
        objects.append(head + stream + b"\nendstream")
        numbers.append(len(objects) + 1)
        objects.append(
            f"<</Type/Page/Parent 2 0 R/MediaBox[0 0 595 842]/Contents {len(objects)} 0 R"
            "/Resources<</Font<</F1 3 0 R>>>>>>".encode()
        )
    first = len(objects) + 1
    places = sorted(titles)
    for count, place in enumerate(places):
        around = "".join(
            f"/{name} {first + at} 0 R"
            for name, at in (("Prev", count - 1), ("Next", count + 1))
            if 0 <= at < len(places)
        )
        page = numbers[place - 1]
        objects.append(
            f"<</Title({titles[place].translate(ESCAPED)})/Parent {first + len(places)} 0 R"
            f"/Dest[{page} 0 R/Fit]{around}>>".encode("latin-1")
        )
    outline = ""
    if places:
        last = first + len(places)
        objects.append(
            f"<</Type/Outlines/First {first} 0 R/Last {last - 1} 0 R/Count {len(places)}>>".encode()
        )
        outline = f"/Outlines {last} 0 R"
    kids = " ".join(f"{each} 0 R" for each in numbers)
    objects[0] = f"<</Type/Catalog/Pages 2 0 R{outline}>>".encode()
    objects[1] = f"<</Type/Pages/Kids[{kids}]/Count {len(numbers)}>>".encode()
    whole, offsets = b"%PDF-1.4\n", []
    for number, each in enumerate(objects, 1):
        offsets.append(len(whole))
        whole += f"{number} 0 obj\n".encode() + each + b"\nendobj\n"
    table = "".join(f"{each:010} 00000 n \n" for each in offsets)
    return (
        whole
        + (
            f"xref\n0 {len(objects) + 1}\n0000000000 65535 f \n{table}"
            f"trailer<</Size {len(objects) + 1}/Root 1 0 R>>\nstartxref\n{len(whole)}\n%%EOF\n"
        ).encode()
    )


ESCAPED = str.maketrans({"(": r"\(", ")": r"\)", "\\": r"\\"})
