import { useEffect } from "react";
import { useParams } from "react-router";

/** useTitle names what one looks at in the window's title, with the project that it is of. */
export function useTitle(what: string) {
  const { project } = useParams();
  useEffect(() => {
    const is = [what, project, "Kettle Tarn"].filter(Boolean).join(" · ");
    document.title = is;
  }, [what, project]);
}
