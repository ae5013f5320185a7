"""Which route a turn takes, and what a reply becomes on a line."""
