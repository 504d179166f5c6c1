-- What the draft is without its edits: the files of this number, or else the active revision. A draft of before has all of its objects
-- as edits of nothing.
ALTER TABLE gateway ADD COLUMN draft_files BIGINT NULL;
