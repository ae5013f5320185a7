"""How the recognizer is made: sentences, speakers, rooms, the network's training and its figures.

Nothing here runs in the service; PyTorch is needed here only.
"""
