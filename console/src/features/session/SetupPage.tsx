import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { api, dataOf } from "../../api/client";
import { sessionQuery, setupQuery } from "../../api/queries";
import { Button, Door, Field } from "../../components/Form";
import { Notice } from "../../components/Notice";

/** The very first page of a new service: the person with the printed code names the administrator. */
export function SetupPage() {
  const [search] = useSearchParams();
  const [code, setCode] = useState(search.get("code") ?? "");
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [again, setAgain] = useState("");
  const queries = useQueryClient();
  const navigate = useNavigate();
  const setup = useQuery(setupQuery);
  const carryOut = useMutation({
    mutationFn: () => dataOf(api.POST("/api/v1/setup", { body: { code, name, password } })),
    onSuccess: async (who) => {
      queries.setQueryData(sessionQuery.queryKey, who);
      queries.setQueryData(setupQuery.queryKey, { needed: false });
      await navigate("/");
    },
  });
  const differs = again !== "" && password !== again;

  if (setup.data && !setup.data.needed) {
    return (
      <Door title="Set up already">
        <p className="mb-4">Somebody has named the administrator of this service.</p>
        <Link to="/sign-in" className="text-act underline">
          Sign in
        </Link>
      </Door>
    );
  }
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (!differs) carryOut.mutate();
  };
  return (
    <Door title="Name the administrator">
      <form onSubmit={submit} className="grid gap-4">
        <Field
          label="Code"
          help="The service printed it when it started."
          required
          value={code}
          onChange={(event) => setCode(event.target.value)}
          autoComplete="off"
        />
        <Field label="Name" required value={name} onChange={(event) => setName(event.target.value)} autoComplete="username" />
        <Field
          label="Password"
          help="8 characters or more."
          type="password"
          required
          minLength={8}
          value={password}
          onChange={(event) => setPassword(event.target.value)}
          autoComplete="new-password"
        />
        <Field
          label="Password again"
          type="password"
          required
          value={again}
          onChange={(event) => setAgain(event.target.value)}
          autoComplete="new-password"
        />
        {differs ? <Notice tone="warn" title="The two passwords differ." /> : null}
        {carryOut.isError ? <Notice tone="alarm" title={carryOut.error.message} /> : null}
        <Button type="submit" disabled={carryOut.isPending}>
          {carryOut.isPending ? "Setting up …" : "Set up and sign in"}
        </Button>
      </form>
    </Door>
  );
}
