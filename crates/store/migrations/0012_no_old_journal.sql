-- It held samples as text, and only after an orderly stop.
DROP TABLE journal;
