"""The turn that stages pass on, its state, and what stages need of the world, as interfaces."""
