"""What is written about a turn: claiming it, recording its stages, its deliveries and its end."""
