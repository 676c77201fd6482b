import { useQuery } from "@tanstack/react-query";
import { Link, Outlet, useNavigate } from "@tanstack/react-router";
import { session } from "../queries";
import { Finder } from "./Finder";
import { Unsaved } from "./Unsaved";

const PLACES = [
  { to: "/today", name: "Today" },
  { to: "/journal", name: "Journal" },
  { to: "/policy", name: "Policy" },
  { to: "/network", name: "Network" },
  { to: "/people", name: "People" },
  { to: "/devices", name: "Devices" },
  { to: "/certificates", name: "Certificates" },
  { to: "/settings", name: "Settings" },
] as const;

/** The rail of places, around every page that needs somebody signed in. */
export function Shell() {
  const { data } = useQuery(session);
  return (
    <div className="grid min-h-screen grid-cols-[9.5rem_1fr]">
      <nav aria-label="Places" className="sticky top-0 flex h-screen flex-col border-r border-line px-5 py-6">
        <span className="mb-5 font-serif text-xl font-semibold text-deep">Regnant</span>
        <Finder />
        <ul className="space-y-1">
          {PLACES.filter((place) => place.to !== "/policy" || data?.role !== "helpdesk").map((place) => (
            <li key={place.to}>
              <Link
                to={place.to}
                className="-mx-2 block rounded-sm px-2 py-1 text-soft data-[status=active]:bg-tint data-[status=active]:text-ink"
              >
                {place.name}
              </Link>
            </li>
          ))}
        </ul>
        <SignOut name={data?.name ?? ""} role={data?.role ?? ""} />
      </nav>
      <main className="min-w-0 px-10 py-6">
        <Outlet />
      </main>
      <Unsaved />
    </div>
  );
}

function SignOut({ name, role }: { name: string; role: string }) {
  const navigate = useNavigate();
  return (
    <div className="mt-auto text-sm text-soft">
      <div className="truncate">{name}</div>
      <div className="mb-1">{role}</div>
      {/* Whoever stays for what they typed stays signed in: the page is left first. */}
      <button
        type="button"
        onClick={() => void navigate({ to: "/sign-out" })}
        className="cursor-pointer text-deep hover:underline"
      >
        Sign out
      </button>
    </div>
  );
}
