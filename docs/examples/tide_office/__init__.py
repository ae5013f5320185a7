"""An existing text service, and the little that gives it an ear and a voice."""
