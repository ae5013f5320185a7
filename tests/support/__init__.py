"""What tests stand on: a PostgreSQL of their own, made-up channels, the whole demo."""
