"""Language models: aliases, prices, the chat-completions wire format, answering and labelling.

It knows neither engine nor store; credentials and aliases are handed to it.
"""
