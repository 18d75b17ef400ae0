"""The language in which a workflow is written: models, YAML, expressions, the checker, its JSON Schema.

This room is the foundation: it imports nothing else of the product, and no web framework,
database or command line.
"""
