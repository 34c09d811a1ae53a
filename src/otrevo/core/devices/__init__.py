"""Devices: what delivers streams of a take. One file declares one device; `catalogue` lists them."""
