import { useEffect } from "react";
import { useParams } from "react-router";

let is = "Kettle Tarn";
let count = 0;
const show = () => {
  document.title = count > 0 ? `(${count}) ${is}` : is;
};

/** titles is the window's title: what one looks at, and how much is new, where one wants to know that. */
export const titles = {
  name(what: string) {
    is = what;
    show();
  },
  count(n: number) {
    count = n;
    show();
  },
};

/** useTitle names what one looks at in the window's title, with the project that it is of. */
export function useTitle(what: string) {
  const { project } = useParams();
  useEffect(() => titles.name([what, project, "Kettle Tarn"].filter(Boolean).join(" · ")), [what, project]);
}
