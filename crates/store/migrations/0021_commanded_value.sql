-- What was commanded, for those who have to see whether it still holds when its lifetime ends.
ALTER TABLE command_lifetime ADD COLUMN commanded VARCHAR(1000) NULL;
