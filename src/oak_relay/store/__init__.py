"""Records in PostgreSQL: tables, migrations, and the statements that read and write them.

It knows no HTTP and no process. Statements stand near the tables they use.
"""
