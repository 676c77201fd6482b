import { TextField } from "../../parts/Field";
import type { Draft } from "./outside";

/** What a service alone is asked by. */
export function HttpFields({ draft, set }: { draft: Draft; set: (part: Partial<Draft>) => void }) {
  return (
    <>
      <TextField
        label="Address"
        help="Where it is asked about one name: https://register.example/assets/{name}, with {name} where that stands."
        name="url"
        value={draft.url}
        change={(url) => set({ url })}
      />
      <TextField
        label="Header"
        help="The header that carries the secret, such as X-Api-Key; left empty where a token is had for it, or none is wanted."
        name="header"
        value={draft.header}
        change={(header) => set({ header })}
      />
      <TextField
        label="Token from"
        help="Where a token is had for the secret (OAuth 2.0, client credentials); left empty where none is wanted."
        name="token-url"
        value={draft.tokenUrl}
        change={(tokenUrl) => set({ tokenUrl })}
      />
      <TextField
        label="Client"
        help="Who asks for the token."
        name="client"
        value={draft.client}
        change={(client) => set({ client })}
      />
      <TextField
        label="Scope"
        help="What the token is to be good for, where the service wants that said."
        name="scope"
        value={draft.scope}
        change={(scope) => set({ scope })}
      />
    </>
  );
}
