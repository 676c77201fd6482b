import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, dataOf } from "../../api/client";
import { Check, Field, TextField } from "../../parts/Field";
import { Refused } from "../../parts/Refused";
import { session } from "../../queries";

/** One's own password and second factor. */
export function Account() {
  const { data } = useQuery(session);
  const [open, setOpen] = useState<"password" | "factor">();
  return (
    <section className="mb-8">
      <h2 className="mb-2 text-lg font-semibold">Your account</h2>
      <p className="border-y border-line py-1.5">
        Signed in as <em>{data?.name}</em>, {data?.role}.{" "}
        <button
          type="button"
          onClick={() => setOpen(open === "password" ? undefined : "password")}
          className="ml-4 cursor-pointer text-deep hover:underline"
        >
          Change the password
        </button>
        <button
          type="button"
          onClick={() => setOpen(open === "factor" ? undefined : "factor")}
          className="ml-4 cursor-pointer text-deep hover:underline"
        >
          Second factor
        </button>
      </p>
      {open === "password" && <Password />}
      {open === "factor" && <SecondFactor />}
    </section>
  );
}

function Password() {
  const [current, setCurrent] = useState("");
  const [wanted, setWanted] = useState("");
  const set = useMutation({
    mutationFn: async () => dataOf(await api.PUT("/api/v1/session/password", { body: { current, new: wanted } })),
    onSuccess: () => {
      setCurrent("");
      setWanted("");
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    set.mutate();
  };
  return (
    <form onSubmit={submit} className="mt-4 grid max-w-2xl gap-4">
      <TextField
        label="Until now"
        help="The password you signed in with."
        name="current"
        type="password"
        value={current}
        change={setCurrent}
      />
      <TextField
        label="From now on"
        help="At least 10 characters, and none that everybody tries first."
        name="new"
        type="password"
        value={wanted}
        change={setWanted}
      />
      <Refused error={set.error} />
      {set.isSuccess && <p role="status">It is changed. Wherever else you were signed in, you are not any more.</p>}
      <p>
        <button type="submit" disabled={set.isPending} className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper">
          Change it
        </button>
      </p>
    </form>
  );
}

function SecondFactor() {
  const queries = useQueryClient();
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const [present, setPresent] = useState("");
  const [keepTokens, setKeepTokens] = useState(false);
  const made = useMutation({
    mutationFn: async () => dataOf(await api.POST("/api/v1/session/second-factor", { body: { password } })),
  });
  const set = useMutation({
    mutationFn: async () =>
      dataOf(
        await api.PUT("/api/v1/session/second-factor", {
          body: { password, code, secret: made.data?.secret ?? "", present: present || null, keep_tokens: keepTokens },
        }),
      ),
  });
  const removed = useMutation({
    mutationFn: async () =>
      dataOf(await api.DELETE("/api/v1/session/second-factor", { body: { password, code: present || null } })),
    onSuccess: () => void queries.invalidateQueries(),
  });
  if (set.data) {
    return (
      <div role="status" className="mt-4 max-w-2xl border-l-2 border-deep bg-tint px-3 py-2">
        <p>
          From now on you sign in with a code too. Each of these opens once in its place; they are shown this once. You sign in
          anew now.
        </p>
        <pre className="mt-2 columns-2 select-all">{set.data.codes.join("\n")}</pre>
        <p className="mt-2">
          <a href="/sign-in" className="text-deep hover:underline">
            I have noted them: sign in
          </a>
        </p>
      </div>
    );
  }
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (made.data) set.mutate();
    else made.mutate();
  };
  return (
    <form onSubmit={submit} className="mt-4 grid max-w-2xl gap-4">
      <TextField
        label="Password"
        help="The one you signed in with."
        name="password"
        type="password"
        value={password}
        change={setPassword}
      />
      <TextField
        label="Present code"
        help="What the authenticator that you have shows now, or a recovery code, to replace it or take it away; empty where you have none."
        name="present"
        value={present}
        change={setPresent}
      />
      {made.data && (
        <>
          <Field
            label="Secret"
            help="Type it into an authenticator: time-based, 6 digits, 30 seconds (RFC 6238). Or open the address on the device that has one."
          >
            <code className="block bg-tint px-3 py-1 select-all">{made.data.secret}</code>
            <a href={made.data.uri} className="text-sm break-all text-deep">
              {made.data.uri}
            </a>
          </Field>
          <TextField
            label="Code"
            help="What the authenticator shows now for this secret."
            name="code"
            value={code}
            change={setCode}
          />
          <Check
            label="My tokens go on"
            help="They were made without it. Where this is not ticked they end, also what the command line signed in with."
            checked={keepTokens}
            change={setKeepTokens}
          />
        </>
      )}
      <Refused error={set.error ?? made.error ?? removed.error} />
      {removed.isSuccess && <p role="status">You have no second factor any more.</p>}
      <p className="flex gap-6">
        <button
          type="submit"
          disabled={!password || (made.data !== undefined && !code)}
          className="cursor-pointer rounded-sm bg-deep px-4 py-1 text-paper disabled:opacity-50"
        >
          {made.data ? "Set it" : "Make one"}
        </button>
        {!made.data && (
          <button
            type="button"
            disabled={!password}
            onClick={() => removed.mutate()}
            className="cursor-pointer text-rust hover:underline disabled:text-soft"
          >
            Take away the one I have
          </button>
        )}
      </p>
    </form>
  );
}
