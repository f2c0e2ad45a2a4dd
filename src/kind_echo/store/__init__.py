"""Files, database models, migrations and audio blobs. Import the module that is wanted: a file needs no database."""
