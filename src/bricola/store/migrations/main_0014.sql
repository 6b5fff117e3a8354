-- Whose account a credential signs on with, and what using it costs, in the owner's words.
ALTER TABLE credential ADD COLUMN account TEXT NOT NULL DEFAULT '';
ALTER TABLE credential ADD COLUMN cost TEXT NOT NULL DEFAULT '';
