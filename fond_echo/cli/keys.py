"""secret put, list and forget; key create, list and revoke."""

from __future__ import annotations

import argparse
import getpass
import sys
from typing import Any

from fond_echo.cli.output import add_service, print_json, service, table


def add(commands: Any) -> None:
    secret = commands.add_parser("secret", help="store secrets for channels and business logic")
    verbs = secret.add_subparsers(dest="verb", required=True, metavar="VERB")
    put = verbs.add_parser("put", help="store a secret; its value is read from standard input")
    put.add_argument("name")
    put.add_argument("--host", action="append", default=[], metavar="HOST[:PORT]",
                     help="a host that it may be sent to; repeat it, or use commas")  # fmt: skip
    add_service(put)
    put.set_defaults(run=_put)
    listing = verbs.add_parser("list", help="names and hosts of all secrets")
    add_service(listing)
    listing.set_defaults(run=_list)
    forget = verbs.add_parser("delete", help="delete a secret")
    forget.add_argument("name")
    add_service(forget)
    forget.set_defaults(run=_forget)
    key = commands.add_parser("key", help="create and revoke keys of the API")
    verbs = key.add_subparsers(dest="verb", required=True, metavar="VERB")
    new = verbs.add_parser("create", help="create a key; it is shown only once")
    new.add_argument("name")
    new.add_argument("--scope", action="append", choices=("read", "operate", "build", "admin"),
                     required=True, help="the scope; each includes those before it")  # fmt: skip
    new.add_argument(
        "--characters-a-day",
        type=int,
        default=0,
        help="characters that the key may have spoken each day (unlimited)",
    )
    new.add_argument(
        "--seconds-a-day",
        type=int,
        default=0,
        help="seconds of sound that the key may convert each day (unlimited)",
    )
    add_service(new)
    new.set_defaults(run=_new_key)
    keys = verbs.add_parser("list", help="list all keys, without their values")
    add_service(keys)
    keys.set_defaults(run=_list_keys)
    revoke = verbs.add_parser("revoke", help="revoke a key")
    revoke.add_argument("id", help="of the key, or the end of it")
    add_service(revoke)
    revoke.set_defaults(run=_revoke)


def _put(options: argparse.Namespace) -> int:
    if sys.stdin.isatty():
        value = getpass.getpass(f"{options.name}: ")
    else:
        value = sys.stdin.readline().rstrip("\n")
    if not value:
        print("fond-echo: the secret is empty", file=sys.stderr)
        return 2
    hosts = [host for given in options.host for host in given.replace(",", " ").split()]
    with service(options) as echo:
        kept = echo.put_secret(options.name, value, hosts)
    if options.json:
        print_json(kept)
    else:
        print(f"Secret {kept.name} stored, for {', '.join(kept.hosts) or 'no host'}")
    return 0


def _list(options: argparse.Namespace) -> int:
    with service(options) as echo:
        found = echo.secrets()
    if options.json:
        print_json(found)
    else:
        table(("secret", "hosts"), [(each.name, ", ".join(each.hosts)) for each in found])
    return 0


def _forget(options: argparse.Namespace) -> int:
    with service(options) as echo:
        echo.delete_secret(options.name)
    if not options.json:
        print(f"Secret {options.name} deleted.")
    return 0


def _new_key(options: argparse.Namespace) -> int:
    with service(options) as echo:
        made = echo.create_key(
            options.name, options.scope, options.characters_a_day, options.seconds_a_day
        )
    if options.json:
        print_json(made)
    else:
        print(f"{made.name} ({', '.join(made.scopes)}): {made.key}")
    return 0


def _list_keys(options: argparse.Namespace) -> int:
    with service(options) as echo:
        found = echo.keys()
    if options.json:
        print_json(found)
        return 0
    rows = [
        (each.id[-12:], each.name, ", ".join(each.scopes),
         f"{each.used_at:%Y-%m-%d %H:%M}" if each.used_at else "never",
         "revoked" if each.revoked_at else "")
        for each in found
    ]  # fmt: skip
    table(("key", "name", "scopes", "used", ""), rows)
    return 0


def _revoke(options: argparse.Namespace) -> int:
    with service(options) as echo:
        ids = [each.id for each in echo.keys() if each.id.endswith(options.id)]  # noqa: SIM118
        revoked = echo.revoke_key(ids[0] if len(ids) == 1 else options.id)
    if options.json:
        print_json(revoked)
    else:
        print(f"Key {revoked.name} revoked.")
    return 0
