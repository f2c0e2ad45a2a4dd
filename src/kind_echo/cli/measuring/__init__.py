"""Commands that measure files; none of them needs a server."""
