"""What replies are made of: engines' free answers, sentences, shaping, transcripts, values."""
