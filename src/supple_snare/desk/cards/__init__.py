"""The cards on the right: the controls of each step."""
