"""How it all stands, over HTTP."""
