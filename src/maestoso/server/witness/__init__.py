"""The witness: a third site whose agent remembers who conducts, so that a standby may take over by itself."""
