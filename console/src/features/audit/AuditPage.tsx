import { useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import type { AuditView } from "../../api/client";
import { AUDIT_PAGE, type AuditFilter, auditPage } from "../../api/queries";
import { Button, Choice, Field } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { Page } from "../../components/Page";
import { useSearch } from "../../components/search";
import { since, SpanChoice } from "../../components/SpanChoice";
import { count, date } from "../../text/format";
import { save } from "../revisions/RevisionsPage";

const ACTIONS = [
  "activate", "add-gateway", "add-person", "ask-for-offers", "ask-point", "begin-loop-check", "change-role", "close-loop-check", "command",
  "discard-draft", "edit-draft",
  "import-points", "make-token", "purge", "relearn", "remove-gateway", "remove-person", "remove-token", "replace-draft",
  "reset-statistics", "save-frames", "set-password", "set-up", "set-up-failed", "sign-in", "sign-in-failed", "sign-out",
  "take-offers", "trial-act", "trial-broker", "trial-identify", "trial-read", "trial-write", "write",
];

/** Who changed it? Everything that anybody did, the newest first. */
export function AuditPage() {
  const [search, change] = useSearch();
  const [now] = useState(() => Date.now());
  const from = since(search.get("span") ?? "", now);
  const filter: AuditFilter = {};
  for (const key of ["q", "person", "action", "gateway"] as const) {
    const text = search.get(key);
    if (text) filter[key] = text;
  }
  if (from !== undefined) filter.from = from;
  const entries = useInfiniteQuery({
    queryKey: ["audit", filter],
    queryFn: ({ pageParam }) => auditPage(filter, pageParam),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (last) => (last.length < AUDIT_PAGE ? undefined : last.at(-1)?.id),
  });
  const all = entries.data?.pages.flat() ?? [];
  return (
    <Page
      title="Audit"
      beside={
        <Button quiet className="ml-auto" disabled={all.length === 0} onClick={() => save("audit.csv", csv(all))}>
          Save as CSV
        </Button>
      }
    >
      <div className="mb-4 grid grid-cols-2 gap-3 md:grid-cols-4">
        <Field label="Text" type="search" value={search.get("q") ?? ""} onChange={(event) => change({ q: event.target.value })} />
        <Field label="Who" value={search.get("person") ?? ""} onChange={(event) => change({ person: event.target.value })} />
        <Choice label="What" value={search.get("action") ?? ""} onChange={(event) => change({ action: event.target.value })}>
          <option value="">Everything</option>
          {ACTIONS.map((action) => (
            <option key={action}>{action}</option>
          ))}
        </Choice>
        <SpanChoice word={search.get("span") ?? ""} onChoose={(word) => change({ span: word })} />
      </div>
      {entries.isPending ? <Loading what="the audit trail" /> : null}
      {entries.isError ? <Notice tone="alarm" title={entries.error.message} /> : null}
      {entries.isSuccess && all.length === 0 ? <Notice title="No entry fits the filter" /> : null}
      <ul aria-label="Entries" className="grid divide-y divide-line">
        {all.map((entry) => (
          <Entry key={entry.id} entry={entry} />
        ))}
      </ul>
      {all.length > 0 ? (
        <div className="flex items-center gap-3 py-4">
          <p className="text-sm text-soft">{count(all.length, "entry", "entries")}</p>
          {entries.hasNextPage ? (
            <Button quiet disabled={entries.isFetchingNextPage} onClick={() => void entries.fetchNextPage()}>
              Older ones
            </Button>
          ) : null}
        </div>
      ) : null}
    </Page>
  );
}

function Entry({ entry }: { entry: AuditView }) {
  const hasMore = entry.before != null || entry.after != null;
  const line = (
    <span className="grid grid-cols-[9.5rem_minmax(0,1fr)] gap-x-3 text-sm md:grid-cols-[9.5rem_7rem_8rem_minmax(0,1fr)_7rem]">
      <span className="tabular-nums text-soft">{date(entry.at)}</span>
      <span className="font-medium">{entry.person || "nobody known"}</span>
      <span className="max-md:col-start-2">{entry.action}</span>
      <span className="min-w-0 break-words max-md:col-start-2">
        {[entry.gateway, entry.object, entry.detail].filter(Boolean).join(" · ")}
      </span>
      <span className="text-right font-mono text-xs leading-5 text-faint max-md:hidden">{entry.source}</span>
    </span>
  );
  if (!hasMore) return <li className="py-2 pl-4">{line}</li>;
  return (
    <li className="py-2">
      <details>
        <summary className="cursor-pointer hover:text-act [&>span]:inline-grid [&>span]:w-[calc(100%-1rem)] [&>span]:align-top">{line}</summary>
        <div className="mt-2 pl-4">
          <Differences before={entry.before} after={entry.after} />
        </div>
      </details>
    </li>
  );
}

/** What changed, field by field as Revisions has it; where that cannot be told, both sides whole. */
function Differences({ before, after }: { before: string | null | undefined; after: string | null | undefined }) {
  const fields = differing(before, after);
  if (!fields) {
    return (
      <div className="grid gap-3 md:grid-cols-2">
        <Side title="Before" text={before} />
        <Side title="After" text={after} />
      </div>
    );
  }
  return (
    <ul className="grid gap-0.5 text-sm">
      {fields.map(({ key, from, to }) => (
        <li key={key}>
          <span className="font-medium">{key}</span>{" "}
          <span className="font-mono text-xs">
            {from || "none"} → {to || "none"}
          </span>
        </li>
      ))}
    </ul>
  );
}

/** The fields of two objects that differ; null where one of them is no object. */
export function differing(before: string | null | undefined, after: string | null | undefined): { key: string; from: string; to: string }[] | null {
  const [one, other] = [object(before), object(after)];
  if (one === null || other === null) return null;
  const text = (value: unknown) => (value === undefined ? "" : typeof value === "string" ? value : JSON.stringify(value));
  return [...new Set([...Object.keys(one), ...Object.keys(other)])]
    .map((key) => ({ key, from: text(one[key]), to: text(other[key]) }))
    .filter(({ from, to }) => from !== to);
}

function object(text: string | null | undefined): Record<string, unknown> | null {
  if (text == null) return {};
  try {
    const parsed: unknown = JSON.parse(text);
    return typeof parsed === "object" && parsed !== null && !Array.isArray(parsed) ? (parsed as Record<string, unknown>) : null;
  } catch {
    return null;
  }
}

function Side({ title, text }: { title: string; text: string | null | undefined }) {
  return (
    <figure>
      <figcaption className="text-xs text-soft">{title}</figcaption>
      <pre className="max-h-64 overflow-auto rounded-md border border-line bg-surface p-2 font-mono text-xs whitespace-pre-wrap">
        {text == null ? "nothing" : pretty(text)}
      </pre>
    </figure>
  );
}

function pretty(text: string): string {
  try {
    return JSON.stringify(JSON.parse(text), null, 2);
  } catch {
    return text;
  }
}

/** The entries as a spreadsheet reads them. No cell is taken for a formula: what begins like one has an apostrophe before it. */
export function csv(entries: AuditView[]): string {
  const keys = ["id", "at", "person", "source", "action", "gateway", "object", "detail", "before", "after"] as const;
  const plain = (text: string) => (/^\s*[=+\-@]/.test(text) ? `'${text}` : text);
  const cell = (value: unknown) => `"${plain(String(value ?? "")).replaceAll('"', '""')}"`;
  const rows = entries.map((entry) => keys.map((key) => cell(key === "at" ? new Date(entry.at).toISOString() : entry[key])));
  return [keys.join(","), ...rows.map((row) => row.join(","))].join("\r\n");
}
