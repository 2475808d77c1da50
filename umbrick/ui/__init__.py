"""The bench: the Qt 6 interface. It shows the core's state and sends it commands; it computes nothing itself."""
