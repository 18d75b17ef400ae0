"""Rows as files: CSV, JSON Lines and workbooks, read and written."""
