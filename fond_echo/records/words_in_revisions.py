"""An erased contact's words in the revisions of assistants: listed, and taken out.

A revision is never changed: another one takes its place, without the words, and the old one is
deleted. Whatever named the old one names the new one; a turn that the old one answered says so, and
is not replayed, as it could come out otherwise.
"""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from sqlalchemy import delete, func, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.contacts import WordsInRevision
from fond_echo.documents.digest import digest
from fond_echo.documents.erased_words import Person, found_in, normalized, without
from fond_echo.store.database import Database
from fond_echo.store.erasing import UNFINISHED
from fond_echo.store.events import emit
from fond_echo.store.records import Assistant, Conversation, Revision, Run, Turn

_PINNED = text(
    """
    UPDATE conversations SET state = jsonb_set(state, '{revision}', to_jsonb(CAST(:new AS text)))
     WHERE state->>'revision' = :old
    """
)
_TOLD = text(
    """
    UPDATE events SET data = jsonb_set(data, '{revision}', to_jsonb(CAST(:new AS text)))
     WHERE type LIKE 'assistant.%' AND subject = :assistant AND data->>'revision' = :old
    """
)
_PINNED_RUNS = text(
    """
    UPDATE runs
       SET state_before = jsonb_set(state_before, '{revision}', to_jsonb(CAST(:new AS text)))
     WHERE state_before->>'revision' = :old
    """
)


@dataclass(frozen=True)
class Traces:
    """A contact's words in revisions.

    Attributes:
        found: where they stand, in the oldest revision first.
        persons: what is taken out, by assistant.
    """

    found: list[WordsInRevision]
    persons: dict[str, Person]


async def traces_of(database: Database, contact_id: str) -> Traces:
    """Look for what a contact said before it stood in an assistant's files, and for cases of its
    turns. What stood there before it was said is anybody's."""
    wanted = (
        select(Turn.id, Turn.text, Turn.received_at)
        .join(Conversation, Conversation.id == Turn.conversation_id)
        .where(Conversation.contact_id == contact_id, Turn.erased_at.is_(None))
    )
    async with database.reading() as session:
        rows = (await session.execute(wanted)).all()
        digests = select(Revision.digest).order_by(Revision.created_at)
        revisions = (await session.execute(digests)).scalars().all() if rows else []
    said: dict[str, datetime] = {}
    for row in rows:
        plain = normalized(row.text)
        said[plain] = min(said.get(plain, row.received_at), row.received_at)
    person = Person(frozenset(said), frozenset(row.id for row in rows))
    persons: dict[str, Person] = {}
    found: list[WordsInRevision] = []
    known: set[tuple[str, str]] = set()
    for each in revisions:
        async with database.reading() as session:
            revision = await session.get(Revision, each)
        if revision is None:
            continue
        name = revision.assistant
        # Reading files takes long where there are many.
        places = await asyncio.to_thread(found_in, revision.files, person)
        texts = {normalized(place.text) for place in places}
        known |= {
            (name, text) for text in texts if text in said and revision.created_at <= said[text]
        }
        own = frozenset(text for text in said if (name, text) not in known)
        persons[name] = Person(own, person.turns)
        found += [
            WordsInRevision(
                assistant=name, revision=each, file=place.file, line=place.line, what=place.what,
                text=place.text,
            )
            for place in places
            if place.certain or normalized(place.text) in own
        ]  # fmt: skip
    return Traces(found, persons)


async def take_out(
    database: Database, persons: Mapping[str, Person], revisions: Sequence[str]
) -> list[str]:
    """Put revisions without a person's words in the place of those with them; gives the new ones'
    ids."""
    new: list[str] = []
    for old in revisions:
        async with database.writing() as session:
            revision = await session.get(Revision, old)
            if revision is None:
                continue
            person = persons[revision.assistant]
            files = await asyncio.to_thread(without, revision.files, person)
            if (becomes := digest(files)) == old:
                continue
            await _replace(session, revision, becomes, files)
        new.append(becomes)
    return new


async def _replace(session: AsyncSession, old: Revision, new: str, files: dict[str, str]) -> None:
    stored = insert(Revision).values(
        digest=new, assistant=old.assistant, files=files, created_at=old.created_at
    )
    await session.execute(stored.on_conflict_do_nothing())
    for column in (Assistant.draft, Assistant.live):
        await session.execute(update(Assistant).where(column == old.digest).values({column: new}))
    unfinished = select(Turn.run_id).where(Turn.state.in_(UNFINISHED), Turn.run_id.is_not(None))
    of_it = update(Run).where(Run.revision == old.digest)
    await session.execute(of_it.where(Run.id.in_(unfinished)).values(revision=new))
    await session.execute(of_it.values(revision=new, revision_erased_at=datetime.now(UTC)))
    names = {"old": old.digest, "new": new}
    await session.execute(_PINNED, names)
    await session.execute(_PINNED_RUNS, names)
    await session.execute(_TOLD, {**names, "assistant": old.assistant})
    await session.execute(delete(Revision).where(Revision.digest == old.digest))
    await session.execute(
        update(Assistant).where(Assistant.name == old.assistant).values(changed_at=func.now())
    )
    await emit(session, "assistant.erased", old.assistant, revision=new)
