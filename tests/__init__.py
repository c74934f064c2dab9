"""The tests mirror src/rhizon; run them with ./run-tests."""
