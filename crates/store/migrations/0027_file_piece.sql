-- Pieces of files, known by what is in them: revisions and drafts share those in which they do not differ.
CREATE TABLE file_piece (
  digest BINARY(16) NOT NULL PRIMARY KEY,
  content MEDIUMBLOB NOT NULL
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4 COLLATE=utf8mb4_bin;
