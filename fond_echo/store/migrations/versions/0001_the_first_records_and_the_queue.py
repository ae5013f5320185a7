"""The first records, and the queue"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op
from sqlalchemy.dialects import postgresql

from fond_echo.store import queue_schema
from fond_echo.store.event_records import TransactionId

revision = "records13"
down_revision = None
branch_labels = None
depends_on = None


def upgrade() -> None:
    op.create_table(
        "benches",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("does", sa.Text(), nullable=False),
        sa.Column("language", sa.Text(), nullable=False),
        sa.Column(
            "created_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_benches")),
    )
    op.create_table(
        "blobs",
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("size", sa.BigInteger(), nullable=False),
        sa.Column("uses", sa.Integer(), nullable=False),
        sa.PrimaryKeyConstraint("digest", name=op.f("pk_blobs")),
    )
    op.create_table(
        "engine_days",
        sa.Column("engine", sa.Text(), nullable=False),
        sa.Column("assistant", sa.Text(), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("asked", sa.Integer(), nullable=False),
        sa.Column("failed", sa.Integer(), nullable=False),
        sa.Column("seconds", sa.Double(), nullable=False),
        sa.Column("cost", sa.Double(), nullable=False),
        sa.PrimaryKeyConstraint("engine", "assistant", "day", name=op.f("pk_engine_days")),
    )
    op.create_index(op.f("ix_engine_days_day"), "engine_days", ["day"], unique=False)
    op.create_table(
        "engines",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("does", sa.Text(), nullable=False),
        sa.Column("connector", sa.Text(), nullable=False),
        sa.Column("values", postgresql.JSONB, nullable=False),
        sa.Column("last_error", sa.Text(), nullable=False),
        sa.Column("last_error_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("paused_until", sa.DateTime(timezone=True), nullable=True),
        sa.Column(
            "changed_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_engines")),
    )
    op.create_table(
        "events",
        sa.Column("id", sa.BigInteger(), autoincrement=True, nullable=False),
        sa.Column(
            "transaction",
            TransactionId(),
            server_default=sa.text("pg_current_xact_id()"),
            nullable=False,
        ),
        sa.Column("type", sa.Text(), nullable=False),
        sa.Column("subject", sa.Text(), nullable=False),
        sa.Column("data", postgresql.JSONB, nullable=False),
        sa.Column(
            "at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_events")),
    )
    op.create_index(op.f("ix_events_at"), "events", ["at"], unique=False)
    op.create_index(op.f("ix_events_subject"), "events", ["subject"], unique=False)
    op.create_index(op.f("ix_events_transaction_id"), "events", ["transaction", "id"], unique=False)
    op.create_table(
        "keys",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("hash", sa.Text(), nullable=False),
        sa.Column("scopes", postgresql.JSONB, nullable=False),
        sa.Column("characters_a_day", sa.Integer(), server_default="0", nullable=False),
        sa.Column("seconds_a_day", sa.Integer(), server_default="0", nullable=False),
        sa.Column(
            "created_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.Column("used_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("revoked_at", sa.DateTime(timezone=True), nullable=True),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_keys")),
        sa.UniqueConstraint("hash", name=op.f("uq_keys_hash")),
    )
    op.create_table(
        "revisions",
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("assistant", sa.Text(), nullable=False),
        sa.Column("files", postgresql.JSONB, nullable=False),
        sa.Column(
            "created_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.Column("cases", postgresql.JSONB, nullable=True),
        sa.PrimaryKeyConstraint("digest", name=op.f("pk_revisions")),
    )
    op.create_table(
        "secrets",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("token", sa.LargeBinary(), nullable=False),
        sa.Column("hosts", postgresql.JSONB, nullable=False),
        sa.Column(
            "changed_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_secrets")),
    )
    op.create_table(
        "subscriptions",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("address", sa.Text(), nullable=False),
        sa.Column("secret", sa.Text(), nullable=False),
        sa.Column("types", postgresql.JSONB, nullable=False),
        sa.Column("cursor", sa.Text(), nullable=False),
        sa.Column(
            "created_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_subscriptions")),
    )
    op.create_table(
        "assistants",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("draft", sa.Text(), nullable=True),
        sa.Column("live", sa.Text(), nullable=True),
        sa.Column(
            "changed_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.ForeignKeyConstraint(["draft"], ["revisions.digest"], name=op.f("fk_assistants_draft")),
        sa.ForeignKeyConstraint(["live"], ["revisions.digest"], name=op.f("fk_assistants_live")),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_assistants")),
    )
    op.create_table(
        "bench_answers",
        sa.Column("bench", sa.Text(), nullable=False),
        sa.Column("engine", sa.Text(), nullable=False),
        sa.Column("file", sa.Text(), nullable=False),
        sa.Column("said", sa.Text(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("seconds", sa.Double(), nullable=False),
        sa.Column("cost", sa.Double(), nullable=False),
        sa.Column("why", sa.Text(), nullable=False),
        sa.Column("length", sa.Double(), nullable=False),
        sa.Column("level", sa.Double(), nullable=False),
        sa.Column("first_seconds", sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(
            ["bench"], ["benches.name"], name=op.f("fk_bench_answers_bench"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("bench", "engine", "file", name=op.f("pk_bench_answers")),
    )
    op.create_table(
        "blob_chunks",
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.ForeignKeyConstraint(
            ["digest"], ["blobs.digest"], name=op.f("fk_blob_chunks_digest"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("digest", "number", name=op.f("pk_blob_chunks")),
    )
    op.create_table(
        "key_usage",
        sa.Column("key_id", sa.Text(), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("characters", sa.Integer(), nullable=False),
        sa.Column("seconds", sa.Double(), nullable=False),
        sa.ForeignKeyConstraint(["key_id"], ["keys.id"], name=op.f("fk_key_usage_key_id")),
        sa.PrimaryKeyConstraint("key_id", "day", name=op.f("pk_key_usage")),
    )
    op.create_index(op.f("ix_key_usage_day"), "key_usage", ["day"], unique=False)
    op.create_table(
        "sign_ins",
        sa.Column("hash", sa.Text(), nullable=False),
        sa.Column("key_id", sa.Text(), nullable=False),
        sa.Column("csrf_token", sa.Text(), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(["key_id"], ["keys.id"], name=op.f("fk_sign_ins_key_id")),
        sa.PrimaryKeyConstraint("hash", name=op.f("pk_sign_ins")),
    )
    op.create_index(op.f("ix_sign_ins_expires_at"), "sign_ins", ["expires_at"], unique=False)
    op.create_table(
        "webhook_deliveries",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("number", sa.BigInteger(), sa.Identity(always=False), nullable=False),
        sa.Column("subscription_id", sa.Text(), nullable=False),
        sa.Column("event", postgresql.JSONB, nullable=False),
        sa.Column("order_key", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column(
            "due_at", sa.DateTime(timezone=True), server_default=sa.text("now()"), nullable=False
        ),
        sa.Column("leased_until", sa.DateTime(timezone=True), nullable=True),
        sa.Column("error", sa.Text(), nullable=False),
        sa.Column(
            "created_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.ForeignKeyConstraint(
            ["subscription_id"],
            ["subscriptions.id"],
            name=op.f("fk_webhook_deliveries_subscription_id"),
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_webhook_deliveries")),
    )
    op.create_index(
        "ix_webhook_deliveries_event_subject",
        "webhook_deliveries",
        [sa.literal_column("(event->>'subject')")],
        unique=False,
    )
    op.create_index(
        op.f("ix_webhook_deliveries_subscription_id_state_number"),
        "webhook_deliveries",
        ["subscription_id", "state", "number"],
        unique=False,
    )
    op.create_index(
        "ix_webhook_deliveries_waiting",
        "webhook_deliveries",
        ["subscription_id", "order_key", "number"],
        unique=False,
        postgresql_where=sa.text("state = 'due'"),
    )
    op.create_table(
        "channels",
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("assistant", sa.Text(), nullable=False),
        sa.Column("connector", sa.Text(), nullable=False),
        sa.Column("values", postgresql.JSONB, nullable=False),
        sa.Column("facts", postgresql.JSONB, nullable=False),
        sa.Column("settings", postgresql.JSONB, nullable=False),
        sa.Column("cursor", sa.Text(), nullable=False),
        sa.Column("slug", sa.Text(), nullable=False),
        sa.Column("unreadable", sa.Integer(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column(
            "created_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.ForeignKeyConstraint(
            ["assistant"], ["assistants.name"], name=op.f("fk_channels_assistant")
        ),
        sa.PrimaryKeyConstraint("name", name=op.f("pk_channels")),
    )
    op.create_table(
        "unreadable_messages",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("channel", sa.Text(), nullable=False),
        sa.Column("payload", postgresql.JSONB, nullable=False),
        sa.Column("reason", sa.Text(), nullable=False),
        sa.Column(
            "received_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.ForeignKeyConstraint(
            ["channel"],
            ["channels.name"],
            name=op.f("fk_unreadable_messages_channel"),
            onupdate="CASCADE",
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_unreadable_messages")),
    )
    op.create_index(
        op.f("ix_unreadable_messages_channel_received_at"),
        "unreadable_messages",
        ["channel", "received_at"],
        unique=False,
    )
    op.create_table(
        "contacts",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("channel", sa.Text(), nullable=False),
        sa.Column("external_id", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("memory", postgresql.JSONB, nullable=False),
        sa.Column("standing", sa.Text(), nullable=False),
        sa.Column("tester", sa.Boolean(), server_default=sa.text("false"), nullable=False),
        sa.Column("opted_out", sa.Boolean(), server_default=sa.text("false"), nullable=False),
        sa.Column("told_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("erased_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column(
            "first_seen_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.ForeignKeyConstraint(
            ["channel"], ["channels.name"], name=op.f("fk_contacts_channel"), onupdate="CASCADE"
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_contacts")),
        sa.UniqueConstraint("channel", "external_id", name=op.f("uq_contacts_channel_external_id")),
    )
    op.create_table(
        "guest_counts",
        sa.Column("channel", sa.Text(), nullable=False),
        sa.Column("mark", sa.Text(), nullable=False),
        sa.Column("hour", sa.DateTime(timezone=True), nullable=False),
        sa.Column("count", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(
            ["channel"],
            ["channels.name"],
            name=op.f("fk_guest_counts_channel"),
            onupdate="CASCADE",
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("channel", "mark", "hour", name=op.f("pk_guest_counts")),
    )
    op.create_index(op.f("ix_guest_counts_hour"), "guest_counts", ["hour"], unique=False)
    op.create_table(
        "conversations",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("channel", sa.Text(), nullable=False),
        sa.Column("contact_id", sa.Text(), nullable=False),
        sa.Column("external_id", sa.Text(), nullable=False),
        sa.Column("turns", sa.Integer(), nullable=False),
        sa.Column("answered", sa.Integer(), nullable=False),
        sa.Column("state", postgresql.JSONB, nullable=False),
        sa.Column("answering", sa.Text(), nullable=False),
        sa.Column(
            "changed_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.ForeignKeyConstraint(
            ["channel"],
            ["channels.name"],
            name=op.f("fk_conversations_channel"),
            onupdate="CASCADE",
        ),
        sa.ForeignKeyConstraint(
            ["contact_id"], ["contacts.id"], name=op.f("fk_conversations_contact_id")
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_conversations")),
        sa.UniqueConstraint(
            "channel",
            "external_id",
            "contact_id",
            name=op.f("uq_conversations_channel_external_id_contact_id"),
        ),
    )
    op.create_index(
        op.f("ix_conversations_changed_at"), "conversations", ["changed_at"], unique=False
    )
    op.create_index(
        op.f("ix_conversations_contact_id"), "conversations", ["contact_id"], unique=False
    )
    op.create_table(
        "usage",
        sa.Column("contact_id", sa.Text(), nullable=False),
        sa.Column("day", sa.Date(), nullable=False),
        sa.Column("turns", sa.Integer(), nullable=False),
        sa.Column("seconds_heard", sa.Double(), nullable=False),
        sa.Column("characters_spoken", sa.Integer(), nullable=False),
        sa.ForeignKeyConstraint(["contact_id"], ["contacts.id"], name=op.f("fk_usage_contact_id")),
        sa.PrimaryKeyConstraint("contact_id", "day", name=op.f("pk_usage")),
    )
    op.create_index(op.f("ix_usage_day"), "usage", ["day"], unique=False)
    op.create_table(
        "turns",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("channel", sa.Text(), nullable=False),
        sa.Column("conversation_id", sa.Text(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("cause", sa.Text(), nullable=False),
        sa.Column("arrived_as", sa.Text(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column(
            "text_search",
            postgresql.TSVECTOR(),
            sa.Computed("strip(to_tsvector('simple', left(text, 100000)))", persisted=True),
            nullable=False,
        ),
        sa.Column("route", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("standing", sa.Text(), nullable=False),
        sa.Column("run_id", sa.Text(), nullable=True),
        sa.Column("error", postgresql.JSONB, nullable=True),
        sa.Column("epoch", sa.Integer(), nullable=False),
        sa.Column("worker", sa.Integer(), nullable=True),
        sa.Column("crashes", sa.Integer(), server_default="0", nullable=False),
        sa.Column("draft", sa.Boolean(), server_default=sa.text("false"), nullable=False),
        sa.Column(
            "received_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.Column("finished_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("sound_erased_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("erased_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["channel"], ["channels.name"], name=op.f("fk_turns_channel"), onupdate="CASCADE"
        ),
        sa.ForeignKeyConstraint(
            ["conversation_id"], ["conversations.id"], name=op.f("fk_turns_conversation_id")
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_turns")),
        sa.UniqueConstraint(
            "conversation_id", "number", name=op.f("uq_turns_conversation_id_number")
        ),
    )
    op.create_index(
        op.f("ix_turns_channel_received_at_id"),
        "turns",
        ["channel", "received_at", "id"],
        unique=False,
    )
    op.create_index(
        "ix_turns_channel_received_at_sound",
        "turns",
        ["channel", "received_at"],
        unique=False,
        postgresql_where=sa.text("sound_erased_at IS NULL"),
    )
    op.create_index(
        "ix_turns_channel_received_at_words",
        "turns",
        ["channel", "received_at"],
        unique=False,
        postgresql_where=sa.text("erased_at IS NULL"),
    )
    op.create_index(op.f("ix_turns_received_at_id"), "turns", ["received_at", "id"], unique=False)
    op.create_index(
        "ix_turns_short_id", "turns", [sa.literal_column("right(id, 12)")], unique=False
    )
    op.create_index(
        op.f("ix_turns_state_received_at_id"), "turns", ["state", "received_at", "id"], unique=False
    )
    op.create_index(
        op.f("ix_turns_text_search"), "turns", ["text_search"], unique=False, postgresql_using="gin"
    )
    op.create_table(
        "clips",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("turn_id", sa.Text(), nullable=True),
        sa.Column("digest", sa.Text(), nullable=False),
        sa.Column("media_type", sa.Text(), nullable=False),
        sa.Column("size", sa.Integer(), nullable=False),
        sa.Column("seconds", sa.Double(), nullable=True),
        sa.Column("rate", sa.Integer(), nullable=True),
        sa.Column("waveform", postgresql.JSONB, nullable=False),
        sa.Column("origin", sa.Text(), nullable=False),
        sa.Column(
            "created_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.ForeignKeyConstraint(["digest"], ["blobs.digest"], name=op.f("fk_clips_digest")),
        sa.ForeignKeyConstraint(["turn_id"], ["turns.id"], name=op.f("fk_clips_turn_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_clips")),
    )
    op.create_index(op.f("ix_clips_digest"), "clips", ["digest"], unique=False)
    op.create_index(
        "ix_clips_stored_at_without_turn",
        "clips",
        ["created_at"],
        unique=False,
        postgresql_where=sa.text("turn_id IS NULL"),
    )
    op.create_index(op.f("ix_clips_turn_id"), "clips", ["turn_id"], unique=False)
    op.create_table(
        "inbound",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("channel", sa.Text(), nullable=False),
        sa.Column("external_id", sa.Text(), nullable=False),
        sa.Column("payload", postgresql.JSONB, nullable=False),
        sa.Column("message", postgresql.JSONB, nullable=False),
        sa.Column("turn_id", sa.Text(), nullable=False),
        sa.Column(
            "received_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.ForeignKeyConstraint(
            ["channel"], ["channels.name"], name=op.f("fk_inbound_channel"), onupdate="CASCADE"
        ),
        sa.ForeignKeyConstraint(["turn_id"], ["turns.id"], name=op.f("fk_inbound_turn_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_inbound")),
        sa.UniqueConstraint("channel", "external_id", name=op.f("uq_inbound_channel_external_id")),
    )
    op.create_index(op.f("ix_inbound_turn_id"), "inbound", ["turn_id"], unique=False)
    op.create_table(
        "runs",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("turn_id", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("revision", sa.Text(), nullable=False),
        sa.Column("clock", sa.DateTime(timezone=True), nullable=False),
        sa.Column("seed", sa.BigInteger(), nullable=False),
        sa.Column("state_before", postgresql.JSONB, nullable=False),
        sa.Column("memory_before", postgresql.JSONB, nullable=False),
        sa.Column("asked_once", postgresql.JSONB, server_default="[]", nullable=False),
        sa.Column("revision_erased_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column(
            "started_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.ForeignKeyConstraint(["revision"], ["revisions.digest"], name=op.f("fk_runs_revision")),
        sa.ForeignKeyConstraint(["turn_id"], ["turns.id"], name=op.f("fk_runs_turn_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_runs")),
    )
    op.create_index(op.f("ix_runs_turn_id"), "runs", ["turn_id"], unique=False)
    op.create_table(
        "calls",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("channel", sa.Text(), nullable=False),
        sa.Column("direction", sa.Text(), nullable=False),
        sa.Column("caller", sa.Text(), nullable=False),
        sa.Column("number", sa.Text(), nullable=False),
        sa.Column("conversation", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("cause", sa.Text(), nullable=False),
        sa.Column("by", sa.Text(), nullable=False),
        sa.Column("status", sa.Integer(), nullable=False),
        sa.Column("answered_by", sa.Text(), nullable=False),
        sa.Column("ending", sa.Boolean(), nullable=False),
        sa.Column("order", postgresql.JSONB, nullable=False),
        sa.Column("attempts", postgresql.JSONB, nullable=False),
        sa.Column("dialog", postgresql.JSONB, nullable=True),
        sa.Column("timeline", postgresql.JSONB, nullable=False),
        sa.Column("quality", postgresql.JSONB, nullable=True),
        sa.Column("waveforms", postgresql.JSONB, nullable=True),
        sa.Column("recording_id", sa.Text(), nullable=True),
        sa.Column(
            "requested_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.Column("due_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("answered_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("ended_at", sa.DateTime(timezone=True), nullable=True),
        sa.Column("erased_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(
            ["channel"], ["channels.name"], name=op.f("fk_calls_channel"), onupdate="CASCADE"
        ),
        sa.ForeignKeyConstraint(["recording_id"], ["clips.id"], name=op.f("fk_calls_recording_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_calls")),
    )
    op.create_index(
        op.f("ix_calls_channel_ended_at"), "calls", ["channel", "ended_at"], unique=False
    )
    op.create_index(
        op.f("ix_calls_channel_requested_at_id"),
        "calls",
        ["channel", "requested_at", "id"],
        unique=False,
    )
    op.create_index(op.f("ix_calls_conversation"), "calls", ["conversation"], unique=False)
    op.create_index(op.f("ix_calls_recording_id"), "calls", ["recording_id"], unique=False)
    op.create_index(
        "ix_calls_short_id", "calls", [sa.literal_column("right(id, 12)")], unique=False
    )
    op.create_index(op.f("ix_calls_state_due_at"), "calls", ["state", "due_at"], unique=False)
    op.create_table(
        "deliveries",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("turn_id", sa.Text(), nullable=False),
        sa.Column("run_id", sa.Text(), nullable=False),
        sa.Column("kind", sa.Text(), nullable=False),
        sa.Column("part", sa.Integer(), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("state", sa.Text(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("extra", postgresql.JSONB, nullable=False),
        sa.Column("clip_id", sa.Text(), nullable=True),
        sa.Column("attempts", sa.Integer(), nullable=False),
        sa.Column("external_id", sa.Text(), nullable=False),
        sa.Column("exchanges", postgresql.JSONB, nullable=False),
        sa.Column("error", postgresql.JSONB, nullable=True),
        sa.Column(
            "planned_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.Column("settled_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["clip_id"], ["clips.id"], name=op.f("fk_deliveries_clip_id")),
        sa.ForeignKeyConstraint(["run_id"], ["runs.id"], name=op.f("fk_deliveries_run_id")),
        sa.ForeignKeyConstraint(["turn_id"], ["turns.id"], name=op.f("fk_deliveries_turn_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_deliveries")),
        sa.UniqueConstraint("key", name=op.f("uq_deliveries_key")),
    )
    op.create_index(op.f("ix_deliveries_clip_id"), "deliveries", ["clip_id"], unique=False)
    op.create_index(op.f("ix_deliveries_planned_at"), "deliveries", ["planned_at"], unique=False)
    op.create_index(op.f("ix_deliveries_run_id"), "deliveries", ["run_id"], unique=False)
    op.create_index(op.f("ix_deliveries_turn_id"), "deliveries", ["turn_id"], unique=False)
    op.create_table(
        "outgoing_messages",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("channel", sa.Text(), nullable=False),
        sa.Column("key", sa.Text(), nullable=False),
        sa.Column("contact", sa.Text(), nullable=False),
        sa.Column("conversation", sa.Text(), nullable=False),
        sa.Column("text", sa.Text(), nullable=False),
        sa.Column("spoken", sa.Boolean(), nullable=False),
        sa.Column("due_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column(
            "created_at",
            sa.DateTime(timezone=True),
            server_default=sa.text("now()"),
            nullable=False,
        ),
        sa.ForeignKeyConstraint(
            ["channel"],
            ["channels.name"],
            name=op.f("fk_outgoing_messages_channel"),
            onupdate="CASCADE",
            ondelete="CASCADE",
        ),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_outgoing_messages")),
        sa.UniqueConstraint(
            "channel", "key", "contact", name=op.f("uq_outgoing_messages_channel_key_contact")
        ),
    )
    op.create_index(
        op.f("ix_outgoing_messages_due_at"), "outgoing_messages", ["due_at"], unique=False
    )
    op.create_table(
        "renditions",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("clip_id", sa.Text(), nullable=False),
        sa.Column("key_id", sa.Text(), nullable=False),
        sa.Column("expires_at", sa.DateTime(timezone=True), nullable=False),
        sa.ForeignKeyConstraint(
            ["clip_id"], ["clips.id"], name=op.f("fk_renditions_clip_id"), ondelete="CASCADE"
        ),
        sa.ForeignKeyConstraint(["key_id"], ["keys.id"], name=op.f("fk_renditions_key_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_renditions")),
    )
    op.create_index(op.f("ix_renditions_clip_id"), "renditions", ["clip_id"], unique=False)
    op.create_index(op.f("ix_renditions_expires_at"), "renditions", ["expires_at"], unique=False)
    op.create_table(
        "stages",
        sa.Column("id", sa.Text(), nullable=False),
        sa.Column("run_id", sa.Text(), nullable=False),
        sa.Column("name", sa.Text(), nullable=False),
        sa.Column("part", sa.Integer(), nullable=False),
        sa.Column("attempt", sa.Integer(), nullable=False),
        sa.Column("started_at", sa.DateTime(timezone=True), nullable=False),
        sa.Column("seconds", sa.Double(), nullable=False),
        sa.Column("outcome", sa.Text(), nullable=False),
        sa.Column("input", postgresql.JSONB, nullable=False),
        sa.Column("output", postgresql.JSONB, nullable=False),
        sa.Column("error", postgresql.JSONB, nullable=True),
        sa.Column("erased_at", sa.DateTime(timezone=True), nullable=True),
        sa.ForeignKeyConstraint(["run_id"], ["runs.id"], name=op.f("fk_stages_run_id")),
        sa.PrimaryKeyConstraint("id", name=op.f("pk_stages")),
        sa.UniqueConstraint(
            "run_id", "name", "part", "attempt", name=op.f("uq_stages_run_id_name_part_attempt")
        ),
    )
    op.create_table(
        "recording_pages",
        sa.Column("call_id", sa.Text(), nullable=False),
        sa.Column("number", sa.Integer(), nullable=False),
        sa.Column("data", sa.LargeBinary(), nullable=False),
        sa.ForeignKeyConstraint(
            ["call_id"], ["calls.id"], name=op.f("fk_recording_pages_call_id"), ondelete="CASCADE"
        ),
        sa.PrimaryKeyConstraint("call_id", "number", name=op.f("pk_recording_pages")),
    )
    # The queue's own schema, kept beside this as its package shipped it.
    queue_schema.begin(op.get_bind())


def downgrade() -> None:
    raise NotImplementedError("the first migration is not undone: drop the database instead")
