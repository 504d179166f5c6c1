import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { type FormEvent, useState } from "react";
import { Navigate, useNavigate, useSearchParams } from "react-router";
import { api, dataOf } from "../../api/client";
import { sessionQuery, setupQuery } from "../../api/queries";
import { Button, Door, Field } from "../../components/Form";
import { Notice } from "../../components/Notice";

export function SignInPage() {
  const [search] = useSearchParams();
  const navigate = useNavigate();
  const setup = useQuery(setupQuery);
  if (setup.data?.needed) return <Navigate to="/setup" replace />;
  return (
    <Door title="Sign in">
      {setup.failureReason ? <Notice tone="alarm" title={setup.failureReason.message} /> : null}
      <SignInForm onSignedIn={() => navigate(ownPath(search.get("to")))} />
    </Door>
  );
}

/** Stands over a page whose session has ended. The page stays as it is below. */
export function SignInAgain({ name }: { name: string }) {
  const queries = useQueryClient();
  return (
    <Dialog.Root open>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          onOpenAutoFocus={(event) => {
            event.preventDefault();
            document.querySelector<HTMLInputElement>("[role=dialog] input[type=password]")?.focus();
          }}
          onEscapeKeyDown={(event) => event.preventDefault()}
          onPointerDownOutside={(event) => event.preventDefault()}
          className="fixed top-1/4 left-1/2 z-40 w-[min(24rem,92vw)] -translate-x-1/2 rounded-lg border border-line-strong bg-raised p-5"
        >
          <Dialog.Title className="text-lg font-semibold">Sign in again</Dialog.Title>
          <Dialog.Description className="mt-1 mb-4 text-soft">The session has ended. The page below, with what you entered, is kept.</Dialog.Description>
          <SignInForm name={name} onSignedIn={() => queries.invalidateQueries()} />
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function SignInForm({ name: known = "", onSignedIn }: { name?: string; onSignedIn: () => unknown }) {
  const [name, setName] = useState(known);
  const [password, setPassword] = useState("");
  const queries = useQueryClient();
  const signIn = useMutation({
    mutationFn: () => dataOf(api.POST("/api/v1/session", { body: { name, password } })),
    onSuccess: (who) => {
      queries.setQueryData(sessionQuery.queryKey, who);
      return onSignedIn();
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    signIn.mutate();
  };
  return (
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
      {signIn.isError ? <Notice tone="alarm" title={signIn.error.message} /> : null}
      <Button type="submit" disabled={signIn.isPending}>
        {signIn.isPending ? "Signing in …" : "Sign in"}
      </Button>
    </form>
  );
}

/** Where to go on; only to pages of this console. */
function ownPath(to: string | null): string {
  return to?.startsWith("/") && !to.startsWith("//") ? to : "/";
}
