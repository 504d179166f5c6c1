import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, dataOf, type PersonView } from "../../api/client";
import { peopleQuery, sessionQuery, tokensQuery } from "../../api/queries";
import { Confirm } from "../../components/Confirm";
import { Button, Choice, Field } from "../../components/Form";
import { Loading, Notice } from "../../components/Notice";
import { Page, Panel } from "../../components/Page";
import { date } from "../../text/format";
import { ROLES, useMay } from "../session/may";

/** Who can sign in, and what may they? For everybody their own password and tokens; for an administrator all of it. */
export function PeoplePage() {
  const isAdministrator = useMay("administrator");
  return (
    <Page title="People">
      <div className="grid items-start gap-4 lg:grid-cols-2">
        {isAdministrator ? <PeoplePanel /> : null}
        <div className="grid gap-4">
          {isAdministrator ? <AddPerson /> : null}
          <OwnPassword />
          <TokensPanel />
        </div>
      </div>
    </Page>
  );
}

const ROLE_HELP: Record<string, string> = {
  viewer: "looks",
  operator: "writes values and acknowledges",
  engineer: "edits and activates",
  administrator: "sees to people too",
};

function PeoplePanel() {
  const people = useQuery(peopleQuery);
  return (
    <Panel title="Who can sign in">
      {people.isPending ? <Loading what="people" /> : null}
      {people.isError ? <Notice tone="alarm" title={people.error.message} /> : null}
      <ul className="grid divide-y divide-line">
        {people.data?.map((person) => (
          <Person key={person.name} person={person} />
        ))}
      </ul>
    </Panel>
  );
}

function Person({ person }: { person: PersonView }) {
  const queries = useQueryClient();
  const session = useQuery(sessionQuery);
  const [password, setPassword] = useState<string | null>(null);
  const path = { params: { path: { name: person.name } } };
  const onSettled = () => queries.invalidateQueries({ queryKey: peopleQuery.queryKey });
  const change = useMutation({
    mutationFn: (body: { role?: string; password?: string }) => dataOf(api.PATCH("/api/v1/people/{name}", { ...path, body })),
    onSuccess: () => setPassword(null),
    onSettled,
  });
  const remove = useMutation({ mutationFn: () => dataOf(api.DELETE("/api/v1/people/{name}", path)), onSettled });
  const error = change.error ?? remove.error;
  const isSelf = session.data?.name === person.name;
  return (
    <li className="grid gap-2 py-3">
      <div className="flex flex-wrap items-end gap-3">
        <div className="min-w-32 flex-1">
          <p className="font-semibold">{person.name}</p>
          <p className="text-xs text-faint">since {date(person.created_at)}</p>
        </div>
        <select
          aria-label={`Role of ${person.name}`}
          value={person.role}
          onChange={(event) => change.mutate({ role: event.target.value })}
          className="h-9 max-md:h-11 rounded-md border border-line-strong bg-raised px-2"
        >
          {ROLES.map((role) => (
            <option key={role}>{role}</option>
          ))}
        </select>
        {isSelf ? null : (
          <>
            <Button quiet onClick={() => setPassword(password === null ? "" : null)}>
              New password
            </Button>
            <Confirm
              title={`Remove ${person.name}?`}
              action="Remove"
              onConfirm={() => remove.mutate()}
              trigger={<Button quiet>Remove</Button>}
            >
              All sessions and tokens end at once. What {person.name} did stays in the audit trail.
            </Confirm>
          </>
        )}
      </div>
      <p className="text-xs text-faint">{ROLE_HELP[person.role]}</p>
      {password !== null ? (
        <form
          className="flex items-end gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            change.mutate({ password });
          }}
        >
          <Field
            label={`New password of ${person.name}`}
            type="password"
            minLength={8}
            required
            autoComplete="new-password"
            value={password}
            onChange={(event) => setPassword(event.target.value)}
          />
          <Button type="submit" className="h-10 shrink-0">
            Set it
          </Button>
        </form>
      ) : null}
      {error ? <Notice tone="alarm" title={error.message} /> : null}
    </li>
  );
}

function AddPerson() {
  const queries = useQueryClient();
  const empty = { name: "", password: "", role: "viewer" };
  const [person, setPerson] = useState(empty);
  const add = useMutation({
    mutationFn: () => dataOf(api.POST("/api/v1/people", { body: person })),
    onSuccess: async () => {
      setPerson(empty);
      await queries.invalidateQueries({ queryKey: peopleQuery.queryKey });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    add.mutate();
  };
  const set = (key: keyof typeof person) => (event: { target: { value: string } }) =>
    setPerson({ ...person, [key]: event.target.value });
  return (
    <Panel title="Add a person">
      <form onSubmit={submit} className="grid gap-3 sm:grid-cols-2">
        <Field label="Name" required value={person.name} onChange={set("name")} autoComplete="off" />
        <Choice label="Role" value={person.role} onChange={set("role")} help={ROLE_HELP[person.role]}>
          {ROLES.map((role) => (
            <option key={role}>{role}</option>
          ))}
        </Choice>
        <Field
          label="First password"
          help="8 characters or more. The person should change it."
          type="password"
          required
          minLength={8}
          value={person.password}
          onChange={set("password")}
          autoComplete="new-password"
        />
        <div className="self-center">
          <Button type="submit" disabled={add.isPending}>
            Add
          </Button>
        </div>
        {add.isError ? <Notice tone="alarm" title={add.error.message} /> : null}
      </form>
    </Panel>
  );
}

function OwnPassword() {
  const queries = useQueryClient();
  const [old, setOld] = useState("");
  const [next, setNext] = useState("");
  const change = useMutation({
    mutationFn: () => dataOf(api.PUT("/api/v1/session/password", { body: { old, new: next } })),
    // Every session has ended, this one too.
    onSuccess: () => queries.setQueryData(sessionQuery.queryKey, null),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    change.mutate();
  };
  return (
    <Panel title="Your own password">
      <form onSubmit={submit} className="grid gap-3 sm:grid-cols-2">
        <Field label="Present password" type="password" required value={old} onChange={(event) => setOld(event.target.value)} autoComplete="current-password" />
        <Field
          label="Another password"
          help="8 characters or more. You sign in anew after it."
          type="password"
          required
          minLength={8}
          value={next}
          onChange={(event) => setNext(event.target.value)}
          autoComplete="new-password"
        />
        {change.isError ? <Notice tone="alarm" title={change.error.message} /> : null}
        <Button type="submit" quiet disabled={change.isPending} className="justify-self-start">
          Change it
        </Button>
      </form>
    </Panel>
  );
}

function TokensPanel() {
  const tokens = useQuery(tokensQuery);
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: (id: string) => dataOf(api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: tokensQuery.queryKey }),
  });
  return (
    <Panel title="Tokens of clients">
      {tokens.isError ? <Notice tone="alarm" title={tokens.error.message} /> : null}
      {tokens.data?.length === 0 ? <p className="text-soft">None. A client makes one when it signs in.</p> : null}
      <ul className="grid divide-y divide-line text-sm">
        {tokens.data?.map((token) => (
          <li key={token.id} className="flex flex-wrap items-center gap-x-3 py-2">
            <span className="font-medium">{token.label}</span>
            <span className="text-soft">{token.person}</span>
            <span className="text-soft">good until {date(token.expires_at)}</span>
            <Button quiet className="ml-auto" aria-label={`Remove token ${token.label} of ${token.person}`} onClick={() => remove.mutate(token.id)}>
              Remove
            </Button>
          </li>
        ))}
      </ul>
    </Panel>
  );
}
