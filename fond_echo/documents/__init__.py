"""Files that people write, checked as they are read: every fault has its place."""
