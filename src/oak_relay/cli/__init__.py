"""The command line, in argparse. It talks to the service through the client; only `up`, `serve`, `work` and
`check` use the rooms below directly.
"""
