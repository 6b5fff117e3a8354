-- A release keeps the form that its contract and messages have, and the contract as callers got it; those from before have form 1, and
-- their contracts are written once by the first program that finds them without. The places of its address are marked in it.
ALTER TABLE release ADD COLUMN form INTEGER NOT NULL DEFAULT 1;
ALTER TABLE release ADD COLUMN contract TEXT NOT NULL DEFAULT '';
