"""The command line. Each module adds its commands; what is heavy is imported when one runs."""
