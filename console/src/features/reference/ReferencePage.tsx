import { useQuery } from "@tanstack/react-query";
import { openapiQuery } from "../../api/queries";
import { Loading, Notice } from "../../components/Notice";
import { type Call, callsOf, schemasOf } from "./document";

/** The API for people, made from the service's own OpenAPI document. */
export function ReferencePage() {
  const document = useQuery(openapiQuery);
  const calls = callsOf(document.data);
  const groups = [...new Set(calls.map((call) => call.group))];
  return (
    <main className="flex-1 overflow-auto p-4 md:p-6">
      <div className="max-w-4xl">
        <h1 className="text-xl font-semibold">API</h1>
        <p className="mt-1 mb-6 text-soft">
          Clients send a token as <code className="font-mono text-sm">Authorization: Bearer TOKEN</code>. Times are
          milliseconds since 1970 UTC. The document itself:{" "}
          <a href="/api/v1/openapi.json" className="text-act underline">
            openapi.json
          </a>
        </p>
        {document.isPending ? <Loading what="the API" /> : null}
        {document.isError ? <Notice tone="alarm" title={document.error.message} /> : null}
        {groups.map((group) => (
          <section key={group} aria-label={group} className="mb-8">
            <h2 className="mb-2 text-xs font-semibold tracking-widest text-faint uppercase">{group}</h2>
            <div className="divide-y divide-line rounded-md border border-line bg-surface">
              {calls.filter((call) => call.group === group).map((call) => (
                <CallEntry key={call.method + call.path} call={call} />
              ))}
            </div>
          </section>
        ))}
        <section aria-label="Bodies">
          <h2 className="mb-2 text-xs font-semibold tracking-widest text-faint uppercase">Bodies</h2>
          {schemasOf(document.data).map((schema) => (
            <div key={schema.name} id={schema.name} className="mb-4">
              <h3 className="font-semibold">{schema.name}</h3>
              <dl className="mt-1 grid grid-cols-[minmax(8rem,auto)_minmax(6rem,auto)_1fr] gap-x-4 text-sm">
                {schema.fields.map((field) => (
                  <div key={field.name} className="contents">
                    <dt className="font-mono text-xs leading-5">{field.name}</dt>
                    <dd className="text-soft">{field.type}</dd>
                    <dd className="text-soft">{field.text}</dd>
                  </div>
                ))}
              </dl>
            </div>
          ))}
        </section>
      </div>
    </main>
  );
}

function CallEntry({ call }: { call: Call }) {
  return (
    <article className="p-3">
      <h3 className="font-mono text-sm break-all">
        <span className="mr-2 inline-block w-14 text-soft">{call.method}</span>
        {call.path}
      </h3>
      <p className="mt-1 text-sm text-soft">{call.summary}</p>
      <ul className="mt-1 text-sm text-soft">
        {call.parameters.map((parameter) => (
          <li key={parameter.name}>
            <code className="font-mono text-xs text-ink">{parameter.name}</code> ({parameter.place}) {parameter.text}
          </li>
        ))}
        {call.body ? (
          <li>
            Body: <a href={`#${call.body}`} className="text-act underline">{call.body}</a>
          </li>
        ) : null}
        <li>Answers: {call.answers.map((answer) => (answer.body ? `${answer.status} ${answer.body}` : answer.status)).join(" · ")}</li>
      </ul>
    </article>
  );
}
