"""Our recognizer: features, network, search over what is expected, dictation."""
