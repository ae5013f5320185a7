"""The processes: what each is made of, and the supervisor that starts them together."""
