"""Addresses in connector files: what a value of a service may do to them, tried before there is
one."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from urllib.parse import urlsplit

from fond_echo.core.language.errors import TemplateFailed
from fond_echo.core.language.templates import compile_template
from fond_echo.documents.errors import FileError
from fond_echo.documents.source import Path, Source
from fond_echo.documents.steps import Step

SAMPLE_HOST = "https://service.example"
SAMPLE_PATH = "/files/a note.ogg"

_AFTER_ANOTHER = re.compile(r"\}\}\s*\{\{-?\s*(\w+)\s*-?\}\}")


def address_errors(
    source: Source, path: Path, step: Step, own: Collection[str]
) -> Iterator[FileError]:
    """What is wrong with a step's address, whatever its values are.

    A value is one part of an address: it is percent-encoded whole. A path of several parts needs
    the filter `path`; a whole address stands alone.

    Args:
        own: names of the channel's own values, such as `base`, which go in as they are.
    """
    template = step.url
    if re.fullmatch(r"\s*\{\{-?\s*\w+\s*-?\}\}\s*", template):
        return
    try:
        compiled = compile_template(template)
        values = {name: SAMPLE_HOST if name in own else SAMPLE_PATH for name in compiled.names}
        address = compiled.address(values, frozenset(own))
    except TemplateFailed:
        return  # it is told elsewhere, or hangs on what the values are
    if "%" not in urlsplit(address).netloc:
        return
    found = _AFTER_ANOTHER.search(template)
    name = found[1] if found else next(iter(compiled.names - set(own)), "value")
    what = f"{{{{ {name} }}}} would become a part of the host: it is one part of an address"
    remedy = (
        f"for a path such as /files/a.ogg write {{{{ {name} | path }}}}, for one part of it put / "
        f"before it, for a whole address let {{{{ {name} }}}} stand alone and add its host to hosts"
    )
    yield source.error((*path, step.method), what, remedy)
