"""Pure rules of recovery: values in, values out. No Django, no input or output, no clock."""
