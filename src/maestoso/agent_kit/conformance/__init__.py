"""The conformance test of site agents: speaks to one that runs, and says what is not as it is written."""
