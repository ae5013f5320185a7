"""Records (SQLAlchemy), migrations (Alembic), blobs, the queue and a local PostgreSQL."""
