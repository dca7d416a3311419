import { useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate, useSearchParams } from "react-router";
import { inside } from "../../parts/house";
import { useTitle } from "../../parts/title";
import { SignInForm } from "./SignInForm";

export function SignInPage() {
  const [params] = useSearchParams();
  const navigate = useNavigate();
  const queries = useQueryClient();
  useTitle("Sign in");
  const wanted = params.get("to") ?? "/";
  const to = inside(wanted) ? wanted : "/";
  const enter = () => {
    queries.clear();
    void navigate(to, { replace: true });
  };
  return (
    <main className="grid min-h-screen place-items-center px-4">
      <div className="w-full max-w-sm">
        <svg viewBox="0 0 400 120" className="mb-6 w-full" aria-hidden>
          <path d="M0 78 72 20l38 34 46-50 62 58 40-28 142 44z" className="fill-stone" />
          <path d="M0 78h400v42H0z" className="fill-ice-wash" />
          <path d="M40 92q20-8 40 0t40 0M210 90q20-8 40 0t40 0" className="fill-none stroke-ice" strokeWidth="1.500" />
          <path d="M120 106q20-8 40 0t40 0" className="fill-none stroke-copper" strokeWidth="1.500" />
        </svg>
        <h1>Kettle Tarn</h1>
        <p className="mt-1 mb-6 text-peat">Sign in to see who is on what, and what came in.</p>
        <SignInForm to={to} onIn={enter} />
        <p className="mt-5">
          <Link to="/forgotten" className="text-peat">
            I forgot my passphrase
          </Link>
        </p>
      </div>
    </main>
  );
}
