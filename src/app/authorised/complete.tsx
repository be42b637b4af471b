"use client";

import Link from "next/link";
import { useEffect, useRef, useState } from "react";
import { ApiError, type ApiProblem, callApi } from "@/ui/parts/api";
import { Refusal } from "@/ui/parts/form";

interface Completed {
  readonly connection: { readonly name: string };
  readonly client: { readonly slug: string };
}

/** Completes an authorisation with what the server's page returned, and goes on to the client's sources. */
export function CompleteAuthorisation() {
  const [problem, setProblem] = useState<ApiProblem | null>(null);
  const begun = useRef(false);
  useEffect(() => {
    // once: what came back is valid for one exchange
    if (begun.current) return;
    begun.current = true;
    const returned = window.location.search.slice(1);
    const id = new URLSearchParams(returned).get("state") ?? "";
    // the code is kept in no history
    window.history.replaceState(null, "", window.location.pathname);
    callApi<Completed>("POST", `/authorisations/${encodeURIComponent(id)}/completion`, { returned }).then(
      ({ client }) => window.location.replace(`/c/${client.slug}/sources`),
      (error: unknown) => {
        if (!(error instanceof ApiError)) throw error;
        setProblem(error.problem);
      },
    );
  }, []);
  if (!problem)
    return (
      <p role="status">
        <span className="loading loading-spinner loading-xs mr-2" aria-hidden />
        Testing the connection…
      </p>
    );
  return (
    <div className="grid gap-4">
      <p>The connection is not authorised.</p>
      <Refusal problem={problem} />
      <Link className="btn btn-primary" href="/">
        Open the console
      </Link>
    </div>
  );
}
