"""The recorder: a process between the cameras and everybody who watches."""
