"""What an archive is, read from its bytes."""
