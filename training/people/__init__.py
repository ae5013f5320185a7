"""People's speech to train on: two packages of Debian main with recorded lines and their subtitles.

Nothing of them is committed. `python -m training.people` downloads, reads and checks them.
"""
