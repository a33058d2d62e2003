"""The web: Flask routes that parse, call one service, and shape the reply."""
