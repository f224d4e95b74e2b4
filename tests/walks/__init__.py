"""Walks: what people and sites can do, in random orders through the application, in virtual time.

After each step everything that the pages say is compared with what the practice sites really are.
"""
