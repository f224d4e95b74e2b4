"""The estate as people search it, compare it, and bring it in from files."""
