"""Linked tables: the same actions over rows that live elsewhere. They are calls to the outside, as exact as the other side is."""
