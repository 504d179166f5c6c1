DROP TABLE draft_object;
