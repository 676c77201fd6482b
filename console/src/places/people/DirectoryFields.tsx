import { useMutation, useQuery } from "@tanstack/react-query";
import { api, dataOf } from "../../api/client";
import { BOX, Check, ChoiceField, Field, TextField } from "../../parts/Field";
import { Refused } from "../../parts/Refused";
import { askedOf, type Draft } from "./outside";

/** What a directory alone is asked by. */
export function DirectoryFields(props: { draft: Draft; isNew: boolean; set: (part: Partial<Draft>) => void }) {
  const { draft, isNew, set } = props;
  const offer = useQuery({
    queryKey: ["offer", draft.name],
    queryFn: async () =>
      dataOf(await api.GET("/api/v1/stores/{name}/offer", { params: { path: { name: draft.name }, query: {} } })),
    enabled: !isNew,
  });
  const looked = useMutation({
    mutationFn: async () => {
      const { directory, secret } = askedOf({ ...draft, kind: "directory" });
      if (!directory) return undefined;
      return dataOf(await api.POST("/api/v1/offer", { body: { directory, secret: secret ?? null } }));
    },
  });
  const places = (looked.data ?? offer.data)?.places ?? [];
  return (
    <>
      <Field
        label="Servers"
        help="ldaps://HOST, or ldap://HOST on which TLS is started; one in a line, the one that is asked first in front."
      >
        <textarea
          name="servers"
          rows={2}
          value={draft.servers}
          onChange={(event) => set({ servers: event.target.value })}
          className={BOX}
        />
      </Field>
      <TextField
        label="Searches as"
        help="An account that may read people and groups, as the directory writes it; nobody where it is empty."
        name="bind-as"
        value={draft.bindAs}
        change={(bindAs) => set({ bindAs })}
      />
      {isNew && (
        <div className="ml-40">
          <button
            type="button"
            disabled={looked.isPending || !draft.servers.trim()}
            onClick={() => looked.mutate()}
            className="cursor-pointer rounded-sm border border-deep px-3 py-1 text-deep disabled:cursor-default disabled:opacity-50"
          >
            {looked.isPending ? "Looking…" : "Look what it has"}
          </button>
          <p className="mt-1 text-sm text-soft">
            With the servers, the account, its password and the trust of this form, before anything is kept.
          </p>
          <Refused error={looked.error} />
          {looked.data && (
            <p role="status" className="mt-1">
              {`Entries that may be searched: ${looked.data.places.length}; groups: ${looked.data.groups.length}. The bases below offer the former.`}
            </p>
          )}
        </div>
      )}
      <TextField
        label="Base"
        help="The entry below which everything is searched, such as dc=tarnmouth,dc=example."
        name="base"
        offers={places}
        value={draft.base}
        change={(base) => set({ base })}
      />
      <TextField
        label="People"
        help="What they have in common (RFC 4515); left empty, no people are looked up."
        name="person-filter"
        value={draft.personFilter}
        change={(personFilter) => set({ personFilter })}
      />
      <TextField
        label="Their names"
        help="The attributes by any of which a person is found; accounts are called by the first."
        name="person-names"
        value={draft.personNames}
        change={(personNames) => set({ personNames })}
      />
      <TextField
        label="Machines"
        help="What they have in common; left empty, none are looked up."
        name="machine-filter"
        value={draft.machineFilter}
        change={(machineFilter) => set({ machineFilter })}
      />
      <TextField
        label="Their names"
        help="The attributes by any of which a machine is found."
        name="machine-names"
        value={draft.machineNames}
        change={(machineNames) => set({ machineNames })}
      />
      <TextField
        label="Devices"
        help="What devices have in common that are kept by their MAC addresses; left empty, none are looked up. Devices here are faster."
        name="device-filter"
        value={draft.deviceFilter}
        change={(deviceFilter) => set({ deviceFilter })}
      />
      <TextField
        label="Their addresses"
        help="The attribute that holds a device's address."
        name="device-name"
        value={draft.deviceName}
        change={(deviceName) => set({ deviceName })}
      />
      <ChoiceField
        label="Notation"
        help="How addresses are written there: 02:00:5e:20:00:01, 02-00-5e-20-00-01, 0200.5e20.0001 or 02005e200001."
        name="device-notation"
        value={draft.deviceNotation}
        choices={["colons", "hyphens", "dots", "bare"]}
        change={(deviceNotation) => set({ deviceNotation })}
      />
      <TextField
        label="Certificates"
        help="The attribute that holds an account's certificates, or what tells them from others, for `bound by certificate`: userCertificate;binary, altSecurityIdentities."
        name="certificates"
        value={draft.certificates}
        change={(certificates) => set({ certificates })}
      />
      <TextField
        label="Who is disabled"
        help="What accounts have in common that are disabled, beside the marks that are known (such as nsAccountLock, shadowExpire, sambaAcctFlags): (employeeType=left)."
        name="disabled-filter"
        value={draft.disabledFilter}
        change={(disabledFilter) => set({ disabledFilter })}
      />
      <TextField
        label="NT hash"
        help="The attribute that holds an account's NT hash in hexadecimal, for MS-CHAP; left empty where the directory keeps none. What is checked by it never binds: locks, resets and ends count as far as entries tell them, and not what the directory enforces at a bind alone."
        name="nt-hash"
        value={draft.ntHash}
        change={(ntHash) => set({ ntHash })}
      />
      <TextField
        label="Clear password"
        help="The attribute that holds an account's password in clear, for CHAP, EAP-MD5 and MS-CHAP; left empty where the directory keeps none."
        name="clear-password"
        value={draft.clearPassword}
        change={(clearPassword) => set({ clearPassword })}
      />
      <ChoiceField
        label="Groups"
        help="member-of where accounts say their groups; search where groups say their members; token-groups where the directory tells all, the primary group with them (Active Directory)."
        name="groups"
        value={draft.groups}
        choices={["member-of", "search", "token-groups"]}
        change={(groups) => set({ groups })}
      />
      <TextField
        label="Group base"
        help="A group counts by its short name only below this entry; everywhere below the base where it is empty."
        name="group-base"
        offers={places}
        value={draft.groupBase}
        change={(groupBase) => set({ groupBase })}
      />
      <TextField
        label="Domain"
        help="The short name of the Active Directory domain whose controllers check responses of MS-CHAP, as PEAP sends them; left empty, none do."
        name="domain"
        value={draft.domain}
        change={(domain) => set({ domain })}
      />
      <TextField
        label="Machine account"
        help="The account of this machine in that domain, such as REGNANT$; it is the account that searches, and has its password."
        name="machine-account"
        value={draft.machineAccount}
        change={(machineAccount) => set({ machineAccount })}
      />
      <TextField
        label="Controllers"
        help="The hosts of the domain's controllers, the one that is asked first in front, or dns:DOMAIN for those that the DNS names (dns://SERVER/DOMAIN asks that DNS server); the hosts of the servers where it is empty."
        name="domain-controllers"
        value={draft.domainControllers}
        change={(domainControllers) => set({ domainControllers })}
      />
      <Check
        label="groups of groups count too"
        help="Somebody in a group is in every group that holds it."
        checked={draft.nested}
        change={(nested) => set({ nested })}
      />
    </>
  );
}
