"""Where recognizer and voice work: what they load, and the processes they run in."""
