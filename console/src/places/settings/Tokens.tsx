import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, dataOf } from "../../api/client";
import { Exports } from "../../parts/Exports";
import { Refused } from "../../parts/Refused";
import { timeOf } from "../../parts/records";
import { moment } from "../../parts/time";
import { MOST, useRole } from "../../queries";
import { ROLES } from "./Administrators";

/** Tokens, with which programs sign in. */
export function Tokens() {
  const role = useRole();
  const queries = useQueryClient();
  const known = useQuery({
    queryKey: ["tokens"],
    queryFn: async () => dataOf(await api.GET("/api/v1/tokens", { params: { query: { limit: MOST } } })),
  });
  const revoked = useMutation({
    mutationFn: async (id: string) => {
      await api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } });
    },
    onSuccess: () => void queries.invalidateQueries({ queryKey: ["tokens"] }),
  });
  return (
    <section className="mb-8">
      <h2 className="mb-2 text-lg font-semibold">Tokens</h2>
      <ul aria-label="Tokens" className="border-t border-line">
        {known.data?.tokens.map((token) => (
          <li
            key={token.id}
            className="grid grid-cols-[10rem_8rem_7rem_1fr_1fr_auto] items-baseline gap-x-4 border-b border-line py-1.5"
          >
            <span className="truncate font-semibold">{token.name || token.id}</span>
            <span className="truncate">{token.administrator}</span>
            <span>{token.role}</span>
            <span className="text-soft">{token.expires ? `until ${moment(token.expires)}` : "never ends"}</span>
            <span className="text-soft">
              {token.used ? `used ${moment(token.used)} from ${token.used_from ?? ""}` : "never used"}
            </span>
            {role === "auditor" ? null : (
              <button type="button" onClick={() => revoked.mutate(token.id)} className="cursor-pointer text-rust hover:underline">
                Revoke
              </button>
            )}
          </li>
        ))}
      </ul>
      <p className="mt-2 flex justify-end">
        <Exports
          name="tokens"
          fields={["id", "name", "administrator", "role", "created", "expires", "used", "used_from"]}
          all={() => Promise.resolve(known.data?.tokens ?? [])}
        />
      </p>
      <Refused error={revoked.error ?? known.error} />
      <NewToken mine={role} />
    </section>
  );
}

function NewToken({ mine }: { mine: string }) {
  const [name, setName] = useState("");
  const [role, setRole] = useState("");
  const [expires, setExpires] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const queries = useQueryClient();
  const made = useMutation({
    mutationFn: async () =>
      dataOf(
        await api.POST("/api/v1/tokens", {
          body: {
            name: name.trim(),
            role: role || mine,
            password,
            ...(code ? { code } : {}),
            ...(expires ? { expires: timeOf(expires) } : {}),
          },
        }),
      ),
    onSuccess: () => {
      setName("");
      setPassword("");
      setCode("");
      void queries.invalidateQueries({ queryKey: ["tokens"] });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    made.mutate();
  };
  const box = "rounded-sm border border-soft bg-sheet px-3 py-1";
  return (
    <>
      <form onSubmit={submit} className="mt-4 flex flex-wrap items-center gap-3">
        <input
          aria-label="Name of a new token"
          placeholder="A new token, such as backup"
          value={name}
          onChange={(event) => setName(event.target.value)}
          className={`w-64 ${box}`}
        />
        {mine === "engineer" && (
          <select
            aria-label="What it may do"
            value={role || mine}
            onChange={(event) => setRole(event.target.value)}
            className={box}
          >
            {ROLES.map((one) => (
              <option key={one}>{one}</option>
            ))}
          </select>
        )}
        <label className="text-soft">
          until (UTC){" "}
          <input type="datetime-local" value={expires} onChange={(event) => setExpires(event.target.value)} className={box} />
        </label>
        <span className="flex items-center gap-3">
          <input
            aria-label="Your password"
            placeholder="Your password"
            type="password"
            autoComplete="current-password"
            value={password}
            onChange={(event) => setPassword(event.target.value)}
            className={`w-44 ${box}`}
          />
          <input
            aria-label="A code of your second factor"
            placeholder="Code, if you have one"
            value={code}
            onChange={(event) => setCode(event.target.value)}
            className={`w-44 ${box}`}
          />
          <button
            type="submit"
            disabled={!name.trim() || !password}
            className="cursor-pointer text-deep hover:underline disabled:text-soft"
          >
            Make it
          </button>
        </span>
      </form>
      <Refused error={made.error} />
      {made.data && (
        <p role="status" className="mt-3">
          The token, shown this once:
          <code className="mt-1 block w-fit bg-tint px-3 py-2 break-all select-all">{made.data.token}</code>
        </p>
      )}
    </>
  );
}
