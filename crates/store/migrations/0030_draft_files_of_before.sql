UPDATE gateway SET draft_files = 0 WHERE is_edited;
