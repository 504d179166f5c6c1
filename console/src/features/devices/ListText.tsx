/** Where a point list is pasted. */
export function ListText({ text, onText }: { text: string; onText: (text: string) => void }) {
  return (
    <label className="grid gap-1 font-medium">
      Point list, with a heading
      <textarea
        value={text}
        onChange={(event) => onText(event.target.value)}
        rows={6}
        spellCheck={false}
        placeholder={"name,address,type,unit,rate\nflow,input:4,float32,m³/h,fast"}
        className="rounded-md border border-line-strong bg-ground p-3 overflow-x-auto font-mono text-xs font-normal whitespace-pre"
      />
    </label>
  );
}
