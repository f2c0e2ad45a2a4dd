"""The HTTP API and the page it serves: parse, call one service, answer."""
