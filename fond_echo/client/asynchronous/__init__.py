"""The asynchronous client: what the synchronous one is made of (`script/clients.py`)."""
