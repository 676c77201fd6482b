import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, dataOf, over } from "../../api/client";
import type { components } from "../../api/schema";
import { Confirm } from "../../parts/Confirm";
import { Notice } from "../../parts/Notice";
import { Past } from "../../parts/Past";
import { Prose } from "../../parts/Prose";
import { useRole } from "../../queries";
import { NewCertificate } from "./NewCertificate";
import { NewTrust } from "./NewTrust";
import { Profiles } from "./Profiles";
import { day, ends, gatesWithProfiles, lasts } from "./certificates";

type Certificate = components["schemas"]["CertificateReport"];
type Trust = components["schemas"]["TrustReport"];
type Link = components["schemas"]["LinkReport"];
type List = components["schemas"]["ListReport"];

/** What we present, whom we trust, and what supplicants need to trust us. */
export function Certificates() {
  const report = useQuery({
    queryKey: ["certificates"],
    queryFn: async () => dataOf(await api.GET("/api/v1/certificates")),
  });
  if (report.error) return <Notice title="Certificates cannot be shown" text={report.error.message} />;
  if (!report.data) return null;
  const { certificates, trusts } = report.data;
  return (
    <div className="max-w-4xl">
      <title>Certificates · Regnant</title>
      <h1 className="mb-6 font-serif text-2xl">Certificates</h1>
      <Section
        title="What we present"
        empty={certificates.length === 0}
        action="Bring or request a certificate"
        form={(done) => <NewCertificate known={certificates} done={done} />}
      >
        {certificates.map((certificate) => (
          <Presented key={certificate.name} certificate={certificate} />
        ))}
      </Section>
      <Section
        title="Whom we trust"
        empty={trusts.length === 0}
        action="Trust somebody"
        form={(done) => <NewTrust known={trusts} done={done} />}
      >
        {trusts.map((trust) => (
          <Trusted key={trust.name} trust={trust} />
        ))}
      </Section>
      <Profiles gates={gatesWithProfiles(certificates)} />
    </div>
  );
}

function Section(props: {
  title: string;
  empty: boolean;
  action: string;
  form: (done: () => void) => React.ReactNode;
  children: React.ReactNode;
}) {
  const [open, setOpen] = useState(false);
  const role = useRole();
  return (
    <section className="mb-8">
      <h2 className="mb-3 flex items-baseline text-lg font-semibold">
        {props.title}
        {role === "engineer" && !open && (
          <button
            type="button"
            onClick={() => setOpen(true)}
            className="ml-auto cursor-pointer text-base font-normal text-deep hover:underline"
          >
            {props.action}
          </button>
        )}
      </h2>
      {open && props.form(() => setOpen(false))}
      {props.empty ? <p>Nothing yet.</p> : <ul className="border-t border-line">{props.children}</ul>}
    </section>
  );
}

function Presented({ certificate }: { certificate: Certificate }) {
  return (
    <li className="border-b border-line py-4">
      <Heading name={certificate.name} verb="presented by" gates={certificate.gates}>
        <Removal kind="certificate" one={certificate} />
      </Heading>
      <Findings list={certificate.findings} />
      {certificate.chain.map((link, place) => (
        <Entry key={link.fingerprint} link={link} label={place === 0 ? "certificate" : "issued by"} />
      ))}
      {certificate.stapled_until != null && (
        <Remark>Its issuer&rsquo;s word that it is not revoked goes with it, good until {day(certificate.stapled_until)}.</Remark>
      )}
      <Before record={`certificate/${certificate.name}`} />
    </li>
  );
}

function Trusted({ trust }: { trust: Trust }) {
  const lists = trust.revocation_lists;
  return (
    <li className="border-b border-line py-4">
      <Heading name={trust.name} verb="trusted by" gates={trust.gates}>
        <Removal kind="trust" one={trust} />
      </Heading>
      <Findings list={trust.findings} />
      {trust.authorities.map((link) => (
        <Entry key={link.fingerprint} link={link} label="authority" />
      ))}
      {lists.map((list, place) => (
        <RevocationList key={place} list={list} />
      ))}
      {lists.length === 0 && <Remark>No revocation list.</Remark>}
      {trust.crl_url && <Remark>Newer lists come from {trust.crl_url}.</Remark>}
      {trust.ocsp_url && <Remark>Asked about revocation: {trust.ocsp_url}.</Remark>}
      <Before record={`trust/${trust.name}`} />
    </li>
  );
}

function Remark({ children }: { children: React.ReactNode }) {
  return <p className="mt-2 text-sm text-soft">{children}</p>;
}

function RevocationList({ list }: { list: List }) {
  return (
    <dl className="mt-2 grid grid-cols-[7rem_1fr] gap-x-3 text-sm">
      <dt className="text-soft">revocation list</dt>
      <dd className="font-serif text-[17px]">{list.issuer}</dd>
      <dt className="text-soft">revoked</dt>
      <dd className="tabular-nums">{list.revoked}</dd>
      <dt className="text-soft">valid</dt>
      <dd className="tabular-nums">{lasts(list)}</dd>
    </dl>
  );
}

function Heading(props: { name: string; verb: string; gates: string[]; children: React.ReactNode }) {
  const { name, verb, gates } = props;
  return (
    <div className="flex items-baseline justify-between">
      <h3 className="font-semibold">
        {name} <span className="font-normal text-soft">{gates.length ? `${verb} ${gates.join(", ")}` : "used by no gate"}</span>
      </h3>
      {props.children}
    </div>
  );
}

/** What was changed about it, for whoever wants to know. */
function Before({ record }: { record: string }) {
  const [open, setOpen] = useState(false);
  const role = useRole();
  if (role === "helpdesk") return null;
  return (
    <details onToggle={(event) => setOpen(event.currentTarget.open)} className="mt-2">
      <summary className="cursor-pointer text-sm text-deep">Its past</summary>
      {open && <Past record={record} />}
    </details>
  );
}

function Removal({ kind, one }: { kind: "certificate" | "trust"; one: Certificate | Trust }) {
  const { name, gates } = one;
  const queries = useQueryClient();
  const role = useRole();
  const removed = useMutation({
    mutationFn: async () => {
      const params = { params: { path: { name }, header: over(one) } };
      await (kind === "certificate"
        ? api.DELETE("/api/v1/certificates/{name}", params)
        : api.DELETE("/api/v1/trusts/{name}", params));
    },
    onSuccess: () => void queries.invalidateQueries(),
  });
  if (role !== "engineer") return null;
  const follows =
    kind === "certificate"
      ? "No gate presents it. Its private key goes with it and is not to be had again."
      : "No gate trusts it.";
  return (
    <Confirm
      action="Remove"
      title={`Remove ${kind} ${name}?`}
      keep="Keep it"
      confirm="Remove it"
      error={removed.error}
      busy={removed.isPending}
      forbidden={gates.length > 0}
      act={() => removed.mutate()}
    >
      {gates.length > 0
        ? `The active policy names it in the gate ${gates.join(", ")}, so that it stays until that changes.`
        : follows}
    </Confirm>
  );
}

function Findings({ list }: { list: string[] }) {
  return list.map((finding) => (
    <p key={finding} role="status" className="my-2 border-l-2 border-deep bg-tint px-3 py-2">
      <Prose text={finding} />
    </p>
  ));
}

function Entry({ link, label }: { link: Link; label: string }) {
  return (
    <dl className="mt-2 grid grid-cols-[7rem_1fr] gap-x-3 text-sm">
      <dt className="text-soft">{label}</dt>
      <dd className="font-serif text-[17px]">{link.subject}</dd>
      {link.names.length > 0 && (
        <>
          <dt className="text-soft">names</dt>
          <dd className="break-words">{link.names.join(", ")}</dd>
        </>
      )}
      <dt className="text-soft">issued by</dt>
      <dd>{link.issuer}</dd>
      <dt className="text-soft">valid</dt>
      <dd className="tabular-nums">{ends(link)}</dd>
      <dt className="text-soft">SHA-256</dt>
      <dd className="break-all text-soft select-all">{link.fingerprint}</dd>
    </dl>
  );
}
