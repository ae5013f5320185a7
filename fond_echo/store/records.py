"""The records, as docs/architecture.md describes them."""

from __future__ import annotations

import secrets
from datetime import date, datetime
from typing import Any

from sqlalchemy import (
    BigInteger,
    Computed,
    ForeignKey,
    Index,
    UniqueConstraint,
    false,
    text,
)
from sqlalchemy.dialects.postgresql import TSVECTOR
from sqlalchemy.orm import Mapped, mapped_column

from fond_echo.store.base import Json, Record, id_column, now_column


def new_slug() -> str:
    """An address part that nobody guesses."""
    return secrets.token_urlsafe(12)


class Assistant(Record):
    """An assistant and its two revisions in use."""

    __tablename__ = "assistants"
    name: Mapped[str] = mapped_column(primary_key=True)
    draft: Mapped[str | None] = mapped_column(ForeignKey("revisions.digest"))
    live: Mapped[str | None] = mapped_column(ForeignKey("revisions.digest"))
    changed_at: Mapped[datetime] = now_column()


class Revision(Record):
    """A bundle of an assistant's files, addressed by its content and never changed. `cases` is the
    last run of those among them, a LastCases."""

    __tablename__ = "revisions"
    digest: Mapped[str] = mapped_column(primary_key=True)
    assistant: Mapped[str]
    files: Mapped[Json]
    created_at: Mapped[datetime] = now_column()
    cases: Mapped[Json | None]


class Channel(Record):
    """A place where people reach an assistant. `settings` are its ChannelSettings.

    `facts` holds what `connect` took from the network, such as our account's id there; `cursor`
    how far a polled network was read; `slug` is a public page's address, not to be guessed;
    `unreadable` counts the messages that could not be read.
    """

    __tablename__ = "channels"
    name: Mapped[str] = mapped_column(primary_key=True)
    kind: Mapped[str]
    assistant: Mapped[str] = mapped_column(ForeignKey("assistants.name"))
    connector: Mapped[str]
    values: Mapped[Json]
    facts: Mapped[Json] = mapped_column(default=dict)
    settings: Mapped[Json] = mapped_column(default=dict)
    cursor: Mapped[str] = mapped_column(default="")
    slug: Mapped[str] = mapped_column(default=new_slug)
    unreadable: Mapped[int] = mapped_column(default=0)
    state: Mapped[str] = mapped_column(default="new")
    reason: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = now_column()


class UnreadableMessage(Record):
    """A message of a channel that could not be read, as it came, and why; the latest of each
    channel are kept."""

    __tablename__ = "unreadable_messages"
    __table_args__ = (Index(None, "channel", "received_at"),)
    id: Mapped[str] = id_column()
    channel: Mapped[str] = mapped_column(
        ForeignKey("channels.name", onupdate="CASCADE", ondelete="CASCADE")
    )
    payload: Mapped[Json]
    reason: Mapped[str]
    received_at: Mapped[datetime] = now_column()


class Contact(Record):
    """A person on a channel, with what is remembered of them.

    `standing`: new, allowed, refused or blocked. A `tester` is answered by the draft.
    Who has `opted_out` is answered, and not written to first.
    """

    __tablename__ = "contacts"
    __table_args__ = (UniqueConstraint("channel", "external_id"),)
    id: Mapped[str] = id_column()
    channel: Mapped[str] = mapped_column(ForeignKey("channels.name", onupdate="CASCADE"))
    external_id: Mapped[str]
    name: Mapped[str] = mapped_column(default="")
    memory: Mapped[Json] = mapped_column(default=dict)
    standing: Mapped[str] = mapped_column(default="new")
    tester: Mapped[bool] = mapped_column(default=False, server_default=false())
    opted_out: Mapped[bool] = mapped_column(default=False, server_default=false())
    told_at: Mapped[datetime | None]
    erased_at: Mapped[datetime | None]
    first_seen_at: Mapped[datetime] = now_column()

    @property
    def shown_name(self) -> str:
        """Its name, or else its id on the network; "erased" where that is all that is known."""
        return "erased" if self.erased_at is not None else self.name or self.external_id


class Usage(Record):
    """What a contact used on a day."""

    __tablename__ = "usage"
    __table_args__ = (Index(None, "day"),)
    contact_id: Mapped[str] = mapped_column(ForeignKey("contacts.id"), primary_key=True)
    day: Mapped[date] = mapped_column(primary_key=True)
    turns: Mapped[int] = mapped_column(default=0)
    seconds_heard: Mapped[float] = mapped_column(default=0.0)
    characters_spoken: Mapped[int] = mapped_column(default=0)


class GuestCount(Record):
    """How many new guests came to a public page from one address within an hour; the address is
    kept as a keyed hash."""

    __tablename__ = "guest_counts"
    __table_args__ = (Index(None, "hour"),)
    channel: Mapped[str] = mapped_column(
        ForeignKey("channels.name", onupdate="CASCADE", ondelete="CASCADE"), primary_key=True
    )
    mark: Mapped[str] = mapped_column(primary_key=True)
    hour: Mapped[datetime] = mapped_column(primary_key=True)
    count: Mapped[int] = mapped_column(default=0)


class Conversation(Record):
    """A contact in one place of a channel, over time.

    Turns are numbered from 1 in the order they came; `answered` is the number up to which all
    are finished: the gate that keeps answers in order.
    """

    __tablename__ = "conversations"
    __table_args__ = (
        UniqueConstraint("channel", "external_id", "contact_id"),
        Index(None, "changed_at"),
        Index(None, "contact_id"),
    )
    id: Mapped[str] = id_column()
    channel: Mapped[str] = mapped_column(ForeignKey("channels.name", onupdate="CASCADE"))
    contact_id: Mapped[str] = mapped_column(ForeignKey("contacts.id"))
    external_id: Mapped[str]
    turns: Mapped[int] = mapped_column(default=0)
    answered: Mapped[int] = mapped_column(default=0)
    state: Mapped[Json] = mapped_column(default=dict)
    answering: Mapped[str] = mapped_column(default="assistant")
    changed_at: Mapped[datetime] = now_column()


class Inbound(Record):
    """A message as it came and as it was understood, once per message id of the channel."""

    __tablename__ = "inbound"
    __table_args__ = (UniqueConstraint("channel", "external_id"), Index(None, "turn_id"))
    id: Mapped[str] = id_column()
    channel: Mapped[str] = mapped_column(ForeignKey("channels.name", onupdate="CASCADE"))
    external_id: Mapped[str]
    payload: Mapped[Json]
    message: Mapped[Json]
    turn_id: Mapped[str] = mapped_column(ForeignKey("turns.id"))
    received_at: Mapped[datetime] = now_column()


class Turn(Record):
    """What came in or happened.

    `state`: received, working, waiting (for an earlier turn's end), answered,
    failed, or cancelled (erased before it was finished). `standing` says why a turn is only told
    so: refused or quota; else it is empty. `run_id` is the live run in work; a turn that is tried
    again by hand gets another. `epoch` fences workers: a write with an older one is refused.
    `worker` is the process that carries it now (`store.liveness`), and `crashes` how many processes
    ended while they did. `sound_erased_at` and `erased_at` say when its sound, and its words too,
    were erased. `words` are those of its text, of the first 100,000 characters, kept by the
    database to find it by. A `draft` one was a tester's, and counts for nothing.
    """

    __tablename__ = "turns"
    __table_args__ = (
        UniqueConstraint("conversation_id", "number"),
        Index(None, "received_at", "id"),
        Index(None, "state", "received_at", "id"),
        Index(None, "channel", "received_at", "id"),
        Index("ix_turns_short_id", text("right(id, 12)")),
        Index(None, "text_search", postgresql_using="gin"),
        Index(
            "ix_turns_channel_received_at_words",
            "channel",
            "received_at",
            postgresql_where=text("erased_at IS NULL"),
        ),
        Index(
            "ix_turns_channel_received_at_sound",
            "channel",
            "received_at",
            postgresql_where=text("sound_erased_at IS NULL"),
        ),
    )
    id: Mapped[str] = id_column()
    channel: Mapped[str] = mapped_column(ForeignKey("channels.name", onupdate="CASCADE"))
    conversation_id: Mapped[str] = mapped_column(ForeignKey("conversations.id"))
    number: Mapped[int]
    cause: Mapped[str] = mapped_column(default="inbound")
    arrived_as: Mapped[str] = mapped_column(default="text")
    text: Mapped[str] = mapped_column(default="")
    text_search: Mapped[str] = mapped_column(
        TSVECTOR,
        # PostgreSQL refuses what makes more than a megabyte, and with it the whole turn.
        Computed("strip(to_tsvector('simple', left(text, 100000)))", persisted=True),
        deferred=True,
    )
    route: Mapped[str] = mapped_column(default="")
    state: Mapped[str] = mapped_column(default="received")
    standing: Mapped[str] = mapped_column(default="")
    run_id: Mapped[str | None]
    error: Mapped[Json | None]
    epoch: Mapped[int] = mapped_column(default=0)
    worker: Mapped[int | None]
    crashes: Mapped[int] = mapped_column(default=0, server_default="0")
    draft: Mapped[bool] = mapped_column(default=False, server_default=false())
    received_at: Mapped[datetime] = now_column()
    finished_at: Mapped[datetime | None]
    sound_erased_at: Mapped[datetime | None]
    erased_at: Mapped[datetime | None]


class Run(Record):
    """One way a turn was worked: live, or again later with all that it depends on frozen.

    `asked_once` are the ids of the questions to business logic that must not be asked again.
    `revision_erased_at` says when its revision was erased, as it held the words of somebody whose
    words were erased; `revision` is then the one that took its place.
    """

    __tablename__ = "runs"
    __table_args__ = (Index(None, "turn_id"),)
    id: Mapped[str] = id_column()
    turn_id: Mapped[str] = mapped_column(ForeignKey("turns.id"))
    kind: Mapped[str] = mapped_column(default="live")
    revision: Mapped[str] = mapped_column(ForeignKey("revisions.digest"))
    clock: Mapped[datetime]
    seed: Mapped[int] = mapped_column(BigInteger)
    state_before: Mapped[Json]
    memory_before: Mapped[Json]
    asked_once: Mapped[list[Any]] = mapped_column(default=list, server_default="[]")
    revision_erased_at: Mapped[datetime | None]
    started_at: Mapped[datetime] = now_column()


class Stage(Record):
    """One stage of a run: when, how long, what went in and what came out.

    `erased_at` says when what went in and came out was erased; `turns.results` reads it.
    """

    __tablename__ = "stages"
    __table_args__ = (UniqueConstraint("run_id", "name", "part", "attempt"),)
    id: Mapped[str] = id_column()
    run_id: Mapped[str] = mapped_column(ForeignKey("runs.id"))
    name: Mapped[str]
    part: Mapped[int] = mapped_column(default=0)
    attempt: Mapped[int] = mapped_column(default=1)
    started_at: Mapped[datetime]
    seconds: Mapped[float]
    outcome: Mapped[str]
    input: Mapped[Json] = mapped_column(default=dict)
    output: Mapped[Json] = mapped_column(default=dict)
    error: Mapped[Json | None]
    erased_at: Mapped[datetime | None]


class Delivery(Record):
    """Something that goes out: planned, sending, sent, in-doubt, refused or dropped.

    `key` is the same at every attempt, for networks that take an idempotency key. `extra` holds
    choices, or an attachment's address and name.
    """

    __tablename__ = "deliveries"
    __table_args__ = (
        UniqueConstraint("key"),
        Index(None, "turn_id"),
        Index(None, "run_id"),
        Index(None, "planned_at"),
        Index(None, "clip_id"),
    )
    id: Mapped[str] = id_column()
    turn_id: Mapped[str] = mapped_column(ForeignKey("turns.id"))
    run_id: Mapped[str] = mapped_column(ForeignKey("runs.id"))
    kind: Mapped[str]
    part: Mapped[int] = mapped_column(default=0)
    key: Mapped[str]
    state: Mapped[str] = mapped_column(default="planned")
    text: Mapped[str] = mapped_column(default="")
    extra: Mapped[Json] = mapped_column(default=dict)
    clip_id: Mapped[str | None] = mapped_column(ForeignKey("clips.id"))
    attempts: Mapped[int] = mapped_column(default=0)
    external_id: Mapped[str] = mapped_column(default="")
    exchanges: Mapped[list[Any]] = mapped_column(default=list)
    error: Mapped[Json | None]
    planned_at: Mapped[datetime] = now_column()
    settled_at: Mapped[datetime | None]


class ClipRecord(Record):
    """Stored sound: what it is, and where its bytes are. It belongs to a turn, or to a call."""

    __tablename__ = "clips"
    __table_args__ = (
        Index(None, "digest"),
        Index(None, "turn_id"),
        Index(
            "ix_clips_stored_at_without_turn",
            "created_at",
            postgresql_where=text("turn_id IS NULL"),
        ),
    )
    id: Mapped[str] = id_column()
    turn_id: Mapped[str | None] = mapped_column(ForeignKey("turns.id"))
    digest: Mapped[str] = mapped_column(ForeignKey("blobs.digest"))
    media_type: Mapped[str]
    size: Mapped[int]
    seconds: Mapped[float | None]
    rate: Mapped[int | None]
    waveform: Mapped[list[Any]] = mapped_column(default=list)
    origin: Mapped[str]
    created_at: Mapped[datetime] = now_column()


class Rendition(Record):
    """Sound that a program asked for, kept while a link to it is valid."""

    __tablename__ = "renditions"
    __table_args__ = (Index(None, "clip_id"), Index(None, "expires_at"))
    id: Mapped[str] = id_column()
    clip_id: Mapped[str] = mapped_column(ForeignKey("clips.id", ondelete="CASCADE"))
    key_id: Mapped[str] = mapped_column(ForeignKey("keys.id"))
    expires_at: Mapped[datetime]


class Blob(Record):
    """Bytes addressed by their SHA-256, with the number of records that use them."""

    __tablename__ = "blobs"
    digest: Mapped[str] = mapped_column(primary_key=True)
    size: Mapped[int] = mapped_column(BigInteger)
    uses: Mapped[int] = mapped_column(default=0)


class BlobChunk(Record):
    """A piece of a blob."""

    __tablename__ = "blob_chunks"
    digest: Mapped[str] = mapped_column(
        ForeignKey("blobs.digest", ondelete="CASCADE"), primary_key=True
    )
    number: Mapped[int] = mapped_column(primary_key=True)
    data: Mapped[bytes]
