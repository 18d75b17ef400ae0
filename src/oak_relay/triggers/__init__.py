"""What starts runs: one module for each kind of trigger, with its model, its sentence, what it checks, how it stands in
the records and how an occasion is received.

It imports documents and capabilities; the store keeps what it says, the runtime and the service bring it occasions.
"""
