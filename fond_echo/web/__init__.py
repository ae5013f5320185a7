"""FastAPI: API, sign-in, events, webhooks, the console's files."""
