"""ONVIF messages as typed objects, both roles: requests and answers, made and read."""
