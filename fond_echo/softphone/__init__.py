"""A telephone in software: the console, `fond-echo dial`, scenarios and tests call with it."""
