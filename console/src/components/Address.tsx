/** Where a value lives. Of one that is too long its end is shown, which tells it from its neighbours. */
export function Address({ children }: { children: string }) {
  return (
    <span dir="rtl" title={children} className="block min-w-0 truncate text-left font-mono text-xs text-soft">
      <bdi dir="ltr">{children}</bdi>
    </span>
  );
}
