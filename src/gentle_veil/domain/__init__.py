"""The five nouns and their rules: Shot, Drape, Veil, Proof, Delivery. Knows no file, table or route."""
