INSERT INTO draft_edit (gateway, class, list, name, content, changed_by, changed_at)
SELECT gateway, class, list, name, content, changed_by, changed_at FROM draft_object ORDER BY gateway, position;
