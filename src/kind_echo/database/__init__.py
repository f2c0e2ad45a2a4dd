"""PostgreSQL: tables, sessions, blobs of audio, migrations, rights of roles, backup."""
