import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { Navigate, useNavigate, useSearchParams } from "react-router";
import { api, dataOf } from "../../api/client";
import { sessionQuery, setupQuery } from "../../api/queries";
import { Button, Door, Field } from "../../components/Form";
import { Notice } from "../../components/Notice";

export function SignInPage() {
  const [search] = useSearchParams();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const queries = useQueryClient();
  const navigate = useNavigate();
  const setup = useQuery(setupQuery);
  const signIn = useMutation({
    mutationFn: () => dataOf(api.POST("/api/v1/session", { body: { name, password } })),
    onSuccess: async (who) => {
      queries.setQueryData(sessionQuery.queryKey, who);
      await navigate(ownPath(search.get("to")));
    },
  });
  if (setup.data?.needed) return <Navigate to="/setup" replace />;
  const submit = (event: FormEvent) => {
    event.preventDefault();
    signIn.mutate();
  };
  return (
    <Door title="Sign in">
      <form onSubmit={submit} className="grid gap-4">
        <Field label="Name" required value={name} onChange={(event) => setName(event.target.value)} autoComplete="username" />
        <Field
          label="Password"
          type="password"
          required
          value={password}
          onChange={(event) => setPassword(event.target.value)}
          autoComplete="current-password"
        />
        {setup.isError ? <Notice tone="alarm" title={setup.error.message} /> : null}
        {signIn.isError ? <Notice tone="alarm" title={signIn.error.message} /> : null}
        <Button type="submit" disabled={signIn.isPending}>
          {signIn.isPending ? "Signing in …" : "Sign in"}
        </Button>
      </form>
    </Door>
  );
}

/** Where to go on; only to pages of this console. */
function ownPath(to: string | null): string {
  return to?.startsWith("/") && !to.startsWith("//") ? to : "/";
}
