"""The catalogue of actions: one module per connector, each action declared by its Pydantic models.

Actions know nothing of engine, store or service; what they need is handed to them.
"""
