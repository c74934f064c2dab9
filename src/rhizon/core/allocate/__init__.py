"""Sharing one machine between its servers."""
