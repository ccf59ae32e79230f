"""Kinds of recorders, a driver each: how a channel is given to a camera, and what its channels are asked."""
