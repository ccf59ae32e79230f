"""The network of the plan: written as configuration, and rehearsed on a software switch."""
