"""SQL in databases that are not ours: reading what is allowed, telling what is there, changing rows by parameters."""
