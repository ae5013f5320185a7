"""assistant pack and unpack: a whole assistant in one file."""

from __future__ import annotations

import argparse
import getpass
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

from pydantic import ValidationError

from fond_echo.cli.errors import NotSaid, OptionsClash
from fond_echo.cli.files import text_in
from fond_echo.cli.output import add_service, named, service
from fond_echo.contract.package import Package, SecretNeeded

if TYPE_CHECKING:
    from fond_echo.client import FondEcho


def add(verbs: Any) -> None:
    pack = verbs.add_parser("pack", help="write an assistant, its engines and channels to a file")
    pack.add_argument("name")
    pack.add_argument("--write", type=Path, metavar="FILE", help="where to (NAME.package.json)")
    add_service(pack)
    pack.set_defaults(run=_pack)
    unpack = verbs.add_parser("unpack", help="put what was packed into this service")
    unpack.add_argument("file", type=Path)
    unpack.add_argument("--secret", action="append", default=[], metavar="NAME=FILE", type=named,
                        help="a file with a secret's value; others are asked for")  # fmt: skip
    unpack.add_argument("--replace", action="store_true",
                        help="replace what is here under the same names")  # fmt: skip
    unpack.add_argument("--publish", action="store_true", help="make it live, and its channels")
    add_service(unpack)
    unpack.set_defaults(run=_unpack)


def _pack(options: argparse.Namespace) -> int:
    file = options.write or Path(f"{options.name}.package.json")
    with service(options) as echo:
        found = echo.package(options.name)
    file.write_text(found.model_dump_json(indent=2) + "\n", "utf-8")
    print(f"{file}: {found.assistant}, {len(found.files)} files, {len(found.engines)} engines, "
          f"{len(found.channels)} channels")  # fmt: skip
    _told(found)
    return 0


def _told(found: Package) -> None:
    if found.secrets:
        print("It needs these secrets; their values are not in it:")
        for each in found.secrets:
            print(f"  {each.name}, for {', '.join(each.hosts) or 'signing'}")
    if found.hosts_reached:
        print(f"It sends what people say to {', '.join(found.hosts_reached)}.")
    if found.functions:
        print(f"Its engines may have called: {', '.join(found.functions)}.")


def _unpack(options: argparse.Namespace) -> int:
    try:
        given = Package.model_validate_json(text_in(options.file))
    except ValidationError as error:
        where = ".".join(map(str, error.errors()[0]["loc"])) or "its beginning"
        raise NotSaid(
            f"{options.file} is no package: {where}: {error.errors()[0]['msg']}",
            remedy="give a file that fond-echo assistant pack wrote",
        ) from error
    with service(options) as echo:
        found = echo.check_package(given)
        for fault in found.errors:
            print(f"✗ {fault.file}, line {fault.line}: {fault.what}", file=sys.stderr)
        if found.errors:
            return 1
        if found.conflicts and not options.replace:
            raise OptionsClash(
                "; ".join(found.conflicts), remedy="--replace puts these in their place"
            )
        _told(given)
        # Everything is known before anything is stored.
        values = {each.name: _value(each, dict(options.secret)) for each in found.missing}
        for each in found.missing:
            echo.put_secret(each.name, values[each.name], each.hosts)
        return _put(echo, given, options.publish)


def _value(needed: SecretNeeded, files: dict[str, str]) -> str:
    if needed.name in files:
        return text_in(Path(files[needed.name])).strip()
    if not sys.stdin.isatty():
        raise NotSaid(f"the secret {needed.name} is not here",
                      remedy=f"give it: --secret {needed.name}=FILE")  # fmt: skip
    return getpass.getpass(f"secret {needed.name}, for {', '.join(needed.hosts) or 'signing'}: ")


def _put(echo: FondEcho, given: Package, publish: bool) -> int:
    for name, engine in given.engines.items():
        echo.put_engine(name, engine)
        print(f"connected the engine {name}")
    echo.put_assistant(given.assistant, given.files)
    print(f"{given.assistant} is here as a draft")
    if not publish:
        print("Look at it, then: the same command with --publish --replace")
        return 0
    echo.publish_assistant(given.assistant, why="unpacked")
    code = 0
    for name, channel in given.channels.items():
        state = echo.put_channel(name, channel)
        trouble = f": {state.reason}" if state.reason else ""
        print(f"the channel {name} is {state.state}{trouble}")
        code = max(code, int(bool(state.reason)))
    return code
