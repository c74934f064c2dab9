"""What the club runs; see docs/harbour-lights.md."""
