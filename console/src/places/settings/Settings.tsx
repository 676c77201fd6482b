import { Link } from "@tanstack/react-router";
import { useRole } from "../../queries";
import { Account } from "./Account";
import { Administrators } from "./Administrators";
import { Keys } from "./Keys";
import { Tokens } from "./Tokens";

/** Who may sign in, with what, and what they changed. */
export function Settings() {
  const role = useRole();
  const reads = role === "engineer" || role === "auditor";
  return (
    <div className="max-w-5xl">
      <title>Settings · Regnant</title>
      <header className="mb-4 flex items-baseline border-b border-ink pb-3">
        <h1 className="font-serif text-2xl">Settings</h1>
        {reads && (
          <Link to="/settings/audit" className="ml-auto text-deep hover:underline">
            Audit: who changed what
          </Link>
        )}
      </header>
      <Account />
      {reads && <Administrators />}
      <Tokens />
      {reads && <Keys />}
    </div>
  );
}
