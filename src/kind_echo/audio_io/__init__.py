"""Files of audio in and out: formats, decoding apart from the server, lossy codecs, archives."""
