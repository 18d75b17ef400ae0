"""Credentials: kinds, how each is applied, encryption at rest, tests, blanking of secrets.

Secrets go in and are used; they never come out. It imports only the document room.
"""
