"""How a document is carried out: plan, walk, retries, resume; how what was done is told as a trace.

Pure: it knows a journal and an executor, both handed to it. It must never import a web framework,
a database, a network client or a command line.
"""
