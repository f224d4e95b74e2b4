"""The outbox: everything that is asked of a site outside of the steps of runs, and what became of it.

There is no other way to change a site. The steps of runs have their log: the event that asks is durable
before anything is sent, and its key is that of the attempt.
"""
