"""Lines: each turns what comes into an Inbound, and what goes out into its network's own form."""
