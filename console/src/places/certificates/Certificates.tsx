import { useQuery } from "@tanstack/react-query";
import { api, dataOf } from "../../api/client";
import type { components } from "../../api/schema";
import { Notice } from "../../parts/Notice";
import { Prose } from "../../parts/Prose";
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
      <Section title="What we present" empty={certificates.length === 0} teach="regnant certificate request radius.example">
        {certificates.map((certificate) => (
          <Presented key={certificate.name} certificate={certificate} />
        ))}
      </Section>
      <Section title="Whom we trust" empty={trusts.length === 0} teach="regnant trust add our-authority authority.pem">
        {trusts.map((trust) => (
          <Trusted key={trust.name} trust={trust} />
        ))}
      </Section>
      <Profiles gates={gatesWithProfiles(certificates)} />
    </div>
  );
}

function Section(props: { title: string; empty: boolean; teach: string; children: React.ReactNode }) {
  return (
    <section className="mb-8">
      <h2 className="mb-3 text-lg font-semibold">{props.title}</h2>
      {props.empty ? (
        <p>
          Nothing yet. Begin with <code className="bg-tint px-1">{props.teach}</code>.
        </p>
      ) : (
        <ul className="border-t border-line">{props.children}</ul>
      )}
    </section>
  );
}

function Presented({ certificate }: { certificate: Certificate }) {
  return (
    <li className="border-b border-line py-4">
      <Heading name={certificate.name} verb="presented by" gates={certificate.gates} />
      <Findings list={certificate.findings} />
      {certificate.chain.map((link, place) => (
        <Entry key={link.fingerprint} link={link} label={place === 0 ? "certificate" : "issued by"} />
      ))}
      {certificate.stapled_until != null && (
        <Remark>Its issuer&rsquo;s word that it is not revoked goes with it, good until {day(certificate.stapled_until)}.</Remark>
      )}
    </li>
  );
}

function Trusted({ trust }: { trust: Trust }) {
  const lists = trust.revocation_lists;
  return (
    <li className="border-b border-line py-4">
      <Heading name={trust.name} verb="trusted by" gates={trust.gates} />
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

function Heading({ name, verb, gates }: { name: string; verb: string; gates: string[] }) {
  return (
    <h3 className="font-semibold">
      {name} <span className="font-normal text-soft">{gates.length ? `${verb} ${gates.join(", ")}` : "used by no gate"}</span>
    </h3>
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
