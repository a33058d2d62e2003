"""Containers, codecs and integers: the only place that knows files of pictures."""
