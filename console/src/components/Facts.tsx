/** Names with what there is to say of each. */
export function Facts({ facts }: { facts: [string, string][] }) {
  return (
    <dl className="mt-2 grid grid-cols-[auto_1fr] gap-x-4 gap-y-0.5 text-sm">
      {facts.map(([name, text]) => (
        <div key={name} className="contents">
          <dt className="text-soft">{name}</dt>
          <dd className="text-right">{text}</dd>
        </div>
      ))}
    </dl>
  );
}
