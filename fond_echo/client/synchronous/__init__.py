"""The synchronous client, made of the asynchronous one by `script/clients.py`: change that."""
