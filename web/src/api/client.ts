import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];

const ACTING = "rinse-acting";

export const acting = () => Number(localStorage.getItem(ACTING) ?? "1");
export const setActing = (id: number) => localStorage.setItem(ACTING, String(id));

type Change = (method: string, path: string) => void;
let told: Change = () => undefined;
/** Who is told of every request that was answered well, by its method and path. */
export const onChange = (who: Change) => (told = who);

/** Of paths whose last answer had been kept: the instant that it is of. */
export const asOf = new Map<string, number>();

export const api = createClient<paths>();
api.use({
  onRequest({ request }) {
    request.headers.set("x-acting-person", String(acting()));
    return request;
  },
  onResponse({ request, response }) {
    const { pathname } = new URL(request.url);
    const at = response.headers.get("x-as-of");
    if (at) asOf.set(pathname, Number(at));
    else asOf.delete(pathname);
    if (response.ok) told(request.method, pathname);
  },
});

/** The answer, or an Error with the problem document's sentence. */
export async function ok<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let result;
  try {
    result = await call;
  } catch {
    throw new Error("Rinse does not answer. Look whether it still runs, then try again.");
  }
  if (!result.response.ok) {
    const problem = result.error as { detail?: string } | undefined;
    throw new Error(problem?.detail ?? `The request was refused (${result.response.status}).`);
  }
  return result.data as T;
}

/** Posts what isn't JSON both ways: the answer, or an Error with the problem document's sentence. */
export async function post(path: string, body: BodyInit, refused: string, type?: string): Promise<Response> {
  const headers = { "x-acting-person": String(acting()), ...(type && { "content-type": type }) };
  const answer = await fetch(path, { method: "POST", body, headers });
  if (!answer.ok) throw new Error(((await answer.json()) as { detail?: string }).detail ?? refused);
  told("POST", new URL(answer.url).pathname);
  return answer;
}

/** Uploads a file as it is; the browser streams it. */
export async function upload(file: File): Promise<Schemas["Run"]> {
  if (file.size > 2 ** 30) throw new Error("The file is over 1 GB. Split it and import the parts one after the other.");
  const path = `/api/imports?name=${encodeURIComponent(file.name)}`;
  return (await post(path, file, "The file was refused.")).json() as Promise<Schemas["Run"]>;
}
