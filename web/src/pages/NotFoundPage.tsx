import { Link, useLocation } from "react-router";
import { Page, Shore } from "../parts/Shore";
import { useTitle } from "../parts/title";

/** NotFoundPage says that there is nothing at an address; inside, in a project; broken, that the page itself failed. */
export function NotFoundPage({ inside = false, broken = false }: { inside?: boolean; broken?: boolean }) {
  const { pathname } = useLocation();
  useTitle(broken ? "This page did not work" : "Nothing here");
  const text = (
    <>
      <h1>{broken ? "This page did not work" : "There is nothing at this address"}</h1>
      <p className="mt-2 max-w-prose text-peat wrap-anywhere">
        {broken ? (
          "Something in the page itself failed. Nothing was changed by that."
        ) : (
          <>{pathname} leads nowhere. It may have been mistyped, or cut off where it was passed on.</>
        )}
      </p>
      <p className="mt-4 flex gap-5">
        {broken && <a href={pathname}>Load it again</a>}
        <Link to="/">All projects</Link>
      </p>
    </>
  );
  return inside ? (
    text
  ) : (
    <>
      <Shore />
      <Page>{text}</Page>
    </>
  );
}
