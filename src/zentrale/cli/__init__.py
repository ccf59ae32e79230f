"""The command line: the only place that prints, prompts or reads arguments. One module a command."""
