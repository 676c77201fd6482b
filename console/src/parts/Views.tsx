/** Ways to look at a place, one of which is shown; each is a link within the page's address. */
export function Views<View extends string>(props: { views: readonly View[]; shown: View; show: (view: View) => void }) {
  return (
    <nav aria-label="What is shown" className="flex gap-4">
      {props.views.map((view) => (
        <button
          key={view}
          type="button"
          aria-current={view === props.shown ? "page" : undefined}
          onClick={() => props.show(view)}
          className={view === props.shown ? "border-b-2 border-deep" : "cursor-pointer text-soft hover:text-ink"}
        >
          {view}
        </button>
      ))}
    </nav>
  );
}
