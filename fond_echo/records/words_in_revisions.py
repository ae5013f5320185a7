"""An erased contact's words in the revisions of assistants: listed, and taken out.

A revision is never changed: another one takes its place, without the words, and the old one is
deleted. Whatever named the old one names the new one; a turn that the old one answered says so, and
is not replayed, as it could come out otherwise.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping, Sequence
from datetime import UTC, datetime

from sqlalchemy import delete, func, select, text, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.contacts import (
    WordsInRevision,
)
from fond_echo.core.errors import FondEchoError
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


class WordsInRevisions(FondEchoError):
    """A contact that is to be erased has words in revisions of assistants."""

    code = "words-in-revisions"


async def persons_of(session: AsyncSession, contact_id: str) -> dict[str, Person]:
    """What is looked for, by assistant: what the contact said before it stood in the assistant's
    files, and the ids of its turns. What stood there before is an example of anybody's."""
    wanted = (
        select(Turn.id, Turn.text, Turn.received_at)
        .join(Conversation, Conversation.id == Turn.conversation_id)
        .where(Conversation.contact_id == contact_id, Turn.erased_at.is_(None))
    )
    rows = (await session.execute(wanted)).all()
    turns = frozenset(row.id for row in rows)
    said: dict[str, datetime] = {}
    for row in rows:
        plain = normalized(row.text)
        said[plain] = min(said.get(plain, row.received_at), row.received_at)
    all_of_it = Person(frozenset(said), turns)
    first: dict[tuple[str, str], datetime] = {}
    assistants = set[str]()
    async for revision in _revisions(session, all_of_it):
        assistants.add(revision.assistant)
        for place in found_in(revision.files, all_of_it):
            first.setdefault((revision.assistant, normalized(place.text)), revision.created_at)
    return {
        name: Person(
            frozenset(
                text for text, at in said.items() if first.get((name, text), at) > at
            ),
            turns,
        )
        for name in assistants
    }  # fmt: skip


async def _revisions(session: AsyncSession, person: Person) -> AsyncIterator[Revision]:
    """All revisions, the oldest first, one at a time; none where nothing is looked for."""
    if not person.turns:
        return
    digests = select(Revision.digest).order_by(Revision.created_at)
    for each in (await session.execute(digests)).scalars().all():
        revision = await session.get(Revision, each)
        if revision is not None:
            yield revision
            session.expunge(revision)


async def words_in_revisions(
    session: AsyncSession, persons: Mapping[str, Person]
) -> list[WordsInRevision]:
    """Where a person's words stand in revisions, the oldest first."""
    nobody = Person(frozenset(), frozenset())
    anybody = next(iter(persons.values()), nobody)
    return [
        WordsInRevision(
            assistant=revision.assistant, revision=revision.digest, file=place.file,
            line=place.line, what=place.what, text=place.text,
        )
        async for revision in _revisions(session, anybody)
        for place in found_in(revision.files, persons.get(revision.assistant, nobody))
    ]  # fmt: skip


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
            files = without(revision.files, persons[revision.assistant])
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
