"""What tests stand on: a PostgreSQL of their own, made-up lines, the whole demo."""
