"""`code.python`: an engineer's own function, carried out where it can reach nothing."""
