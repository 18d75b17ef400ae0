"""Processes: intake, worker, lease, notifications, settings, and the database's own start.

It imports the store and what lies below, never the service or the command line.
"""
