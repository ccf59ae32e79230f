"""The switches as they are: asked by SNMP, held against the plan, and their ports switched."""
