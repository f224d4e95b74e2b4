"""The script library and the secrets that scripts are given."""
