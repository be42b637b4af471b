"use client";

/** What the API says is wrong: RFC 9457 with the fields concerned. */
export interface ApiProblem {
  readonly title: string;
  readonly status: number;
  readonly detail: string;
  readonly code: string;
  readonly remedy: string;
  readonly errors: readonly { readonly field: string; readonly message: string }[];
}

export class ApiError extends Error {
  constructor(readonly problem: ApiProblem) {
    super(problem.detail);
  }
}

/** Calls the console's own API. Throws an ApiError with what to show. */
export async function callApi<T>(
  method: "GET" | "POST" | "PUT" | "PATCH" | "DELETE",
  path: string,
  body?: unknown,
): Promise<T> {
  let response: Response;
  try {
    response = await fetch(`/api/v1${path}`, {
      method,
      headers: body === undefined ? {} : { "content-type": "application/json" },
      body: body === undefined ? null : JSON.stringify(body),
    });
  } catch {
    throw new ApiError({
      title: "The console does not answer",
      status: 0,
      detail: "The console does not answer. Your input is kept. Try again in a moment.",
      code: "internal.error",
      remedy: "",
      errors: [],
    });
  }
  if (response.status === 204) return undefined as T;
  const answer = await response.json().catch(() => ({}));
  if (!response.ok) {
    if (response.status === 401 && !path.startsWith("/sessions"))
      window.location.assign(`/sign-in?to=${encodeURIComponent(window.location.pathname)}`);
    throw new ApiError(answer as ApiProblem);
  }
  return answer as T;
}

/** What a refusal says first; what is none is thrown on. */
export const refusalOf = (error: unknown): string => {
  if (error instanceof ApiError)
    return error.problem.errors[0]?.message ?? error.problem.detail ?? error.problem.title;
  throw error;
};
