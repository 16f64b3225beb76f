"""The engine: pulls a sink's blocks through a view, on threads, in bounded memory, whole or not at all."""
