"""The audit trail: everything that people change, who, when, from where, before and after."""
