import type { ReactNode } from "react";

/** A page with a heading, what belongs beside it, and its content. */
export function Page({ title, beside, children }: { title: string; beside?: ReactNode; children: ReactNode }) {
  return (
    <main className="flex min-h-0 flex-1 flex-col overflow-auto p-4 md:px-6">
      <header className="mb-4 flex flex-wrap items-center gap-x-4 gap-y-2">
        <h1 className="text-lg font-semibold">{title}</h1>
        {beside}
      </header>
      {children}
    </main>
  );
}

/** A list, which makes room at the left for what is chosen from it; on a phone one takes the place of the other. */
export function Split({ list, detail }: { list: ReactNode; detail: ReactNode | null }) {
  return (
    <div className={`grid items-start gap-6 ${detail === null ? "" : "lg:grid-cols-[minmax(12rem,1fr)_minmax(0,4fr)]"}`}>
      <div className={detail === null ? "" : "max-lg:hidden"}>{list}</div>
      {detail}
    </div>
  );
}

/** A part of a page with a heading of its own. */
export function Panel({ title, beside, children }: { title: string; beside?: ReactNode; children: ReactNode }) {
  return (
    <section aria-label={title} className="rounded-lg border border-line bg-surface p-4">
      <header className="mb-3 flex flex-wrap items-center gap-2">
        <h2 className="font-semibold">{title}</h2>
        {beside ? <div className="ml-auto flex flex-wrap items-center gap-2">{beside}</div> : null}
      </header>
      {children}
    </section>
  );
}
