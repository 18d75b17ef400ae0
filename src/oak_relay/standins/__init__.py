"""The simulated outside world of the demo: small, deterministic, honest, on loopback.

Outsiders: they know nothing of the product and speak only the open protocols a real one would.
"""
