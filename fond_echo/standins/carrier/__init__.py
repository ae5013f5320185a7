"""A carrier that ships with the service: handsets that call, speak, press keys and listen."""
