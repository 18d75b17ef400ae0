"""Connectors from OpenAPI documents (3.0, 3.1): reading one, what its operations become, and carrying them out.

A document is foreign: it is read in a process of its own with limits of time and memory (`reading`), and what comes of it is a
list of operations in a form of our own (`shapes`), which is all that is kept. References within a document are followed; those
to other documents never are.
"""
