"""FastAPI: resources, hooks, streaming, sign-in; serves the console.

One module per resource; none knows another. It imports the runtime and what lies below, never the
client or the command line.
"""
