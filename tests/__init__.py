"""The tests: the core alone, the rest against the real thing."""
