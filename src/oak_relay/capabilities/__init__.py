"""What is handed to actions, triggers and models: one small protocol for each thing they may be able to do.

Whoever carries out a call gives them; this room imports documents and credentials, and nothing that gives them.
"""
