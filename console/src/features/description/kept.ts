import { useCallback, useEffect, useState } from "react";
import type { Content } from "../../api/client";

/** What was typed and not saved yet, with what it was made from. */
interface Kept {
  /** The version of the object that was looked at; null for a new one. */
  version: string | null;
  content: Content;
  /** What it was then: what others change meanwhile of other fields stands beside what is typed. */
  began?: Content | undefined;
}

const PREFIX = "unsaved:";

function read(key: string): Kept | null {
  try {
    const parsed: unknown = JSON.parse(localStorage.getItem(PREFIX + key) ?? "null");
    return typeof parsed === "object" && parsed !== null && "content" in parsed ? (parsed as Kept) : null;
  } catch {
    return null;
  }
}

/** Never written down in the browser: what was typed there has to be typed again after a reload. */
const SECRETS = ["password", "key"];

function write(key: string, kept: Kept, saved: Content) {
  const content = { ...kept.content };
  for (const field of SECRETS) {
    if (field in saved) content[field] = saved[field];
    else delete content[field];
  }
  localStorage.setItem(PREFIX + key, JSON.stringify({ ...kept, content }));
}

/**
 * The content of a form: what is saved, or what was typed over it. What was typed outlives a reload of the page, and is
 * gone once it is saved or thrown away.
 */
export function useKept(key: string, saved: Kept) {
  const [kept, setKept] = useState(() => read(key));
  useEffect(() => setKept(read(key)), [key]);
  const change = useCallback(
    (content: Content) => {
      const next = { version: kept?.version ?? saved.version, content, began: kept ? kept.began : saved.content };
      write(key, next, saved.content);
      setKept(next);
    },
    [key, kept, saved],
  );
  const forget = useCallback(() => {
    localStorage.removeItem(PREFIX + key);
    setKept(null);
  }, [key]);
  const { version, content, began } = kept ?? saved;
  return { version, content, began, isUnsaved: kept !== null, change, forget };
}
