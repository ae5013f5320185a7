"""The demo world: Tern Sound Ferries. Everything in it is made up."""
