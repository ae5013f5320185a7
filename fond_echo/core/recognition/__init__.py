"""Our recogniser: features, network, search over what is expected, dictation."""
