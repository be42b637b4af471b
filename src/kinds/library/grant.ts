import * as oauth from "oauth4webapi";
import { z } from "zod";
import { CodedError } from "@/core/codes";
import { fetchAllowed } from "@/store/places/reach";
import type { OpenConnection } from "../connection-base";
import type { LibrarySettings } from "./settings";

/**
 * Grants of a person (OAuth 2.0, RFC 6749): authorization code with PKCE (RFC 7636), and refresh tokens, which servers may
 * replace at each use (RFC 9700, section 4.14).
 */

type Connection = OpenConnection<LibrarySettings>;

/** What is kept of a grant, as the connection's secret. */
const grantSecret = z.object({
  /** Of the console at the authorization server; empty: it has none. */
  clientSecret: z.string(),
  refresh: z.string(),
  access: z.string(),
  /** Milliseconds since 1970. */
  expires: z.number(),
});
type Grant = z.infer<typeof grantSecret>;

/** A token that ends so soon is replaced before it is used. */
const EARLY_MS = 30_000;
/** Where a server does not tell how long a token is valid. */
const USUAL_S = 300;
const PATIENCE_MS = 30_000;

const options = () => ({
  [oauth.customFetch]: fetchAllowed as never,
  // whether an address without TLS is acceptable was decided when it was entered
  [oauth.allowInsecureRequests]: true,
  signal: AbortSignal.timeout(PATIENCE_MS),
});

/** The authorization server, by its metadata (RFC 8414, or OpenID Connect Discovery). */
async function serverOf({
  issuer = "",
  otherHosts = [],
}: LibrarySettings): Promise<oauth.AuthorizationServer> {
  const url = new URL(issuer);
  let why = "";
  for (const algorithm of ["oauth2", "oidc"] as const)
    try {
      const answer = await oauth.discoveryRequest(url, { algorithm, ...options() });
      const server = await oauth.processDiscoveryResponse(url, answer);
      for (const endpoint of [server.authorization_endpoint, server.token_endpoint]) {
        if (!endpoint || !URL.canParse(endpoint))
          throw new CodedError("source.unreadable", `${url.host} names no address to authorise at`);
        const { hostname, protocol } = new URL(endpoint);
        if (hostname !== url.hostname && !otherHosts.includes(hostname))
          throw new CodedError("source.other-host", `the server names ${hostname}`);
        if (protocol !== url.protocol && protocol !== "https:")
          throw new CodedError("source.other-host", `the server leads away from TLS, to ${endpoint}`);
      }
      return server;
    } catch (error) {
      if (error instanceof CodedError && error.code !== "source.not-reached") throw error;
      const { message, cause } = error as Error & { cause?: { code?: string; message?: string } };
      if (error instanceof TypeError || cause?.code === "ECONNREFUSED")
        throw new CodedError("source.not-reached", `${url.host}: ${cause?.message || message}`);
      why = message;
    }
  throw new CodedError(
    "source.unreadable",
    `${url.host} publishes no metadata of an authorization server (${why})`,
  );
}

const authOf = (clientSecret: string): oauth.ClientAuth =>
  clientSecret ? oauth.ClientSecretBasic(clientSecret) : oauth.None();

/** Where the browser is sent to authorise, and what has to be kept secret until it returns. */
export async function beginGrant(
  { settings }: Connection,
  redirectUri: string,
  state: string,
): Promise<{ readonly url: string; readonly verifier: string }> {
  const server = await serverOf(settings);
  const verifier = oauth.generateRandomCodeVerifier();
  const url = new URL(server.authorization_endpoint!);
  const asked: Record<string, string> = {
    response_type: "code",
    client_id: settings.user,
    redirect_uri: redirectUri,
    state,
    code_challenge: await oauth.calculatePKCECodeChallenge(verifier),
    code_challenge_method: "S256",
    ...(settings.scope ? { scope: settings.scope } : {}),
    // a refresh token is granted by consent alone (OpenID Connect Core, section 11)
    ...(settings.scope?.split(" ").includes("offline_access") ? { prompt: "consent" } : {}),
  };
  for (const [name, value] of Object.entries(asked)) url.searchParams.set(name, value);
  return { url: url.href, verifier };
}

/** Exchanges what the browser returned with for a grant; returns the connection's secret. */
export async function completeGrant(
  { settings, secret: clientSecret }: Connection,
  redirectUri: string,
  state: string,
  verifier: string,
  returned: URLSearchParams,
): Promise<string> {
  const server = await serverOf(settings);
  const client: oauth.Client = { client_id: settings.user };
  try {
    const response = oauth.validateAuthResponse(server, client, returned, state);
    const answer = await oauth.authorizationCodeGrantRequest(
      server,
      client,
      authOf(clientSecret),
      response,
      redirectUri,
      verifier,
      options(),
    );
    const tokens = await oauth.processAuthorizationCodeResponse(server, client, answer);
    if (!tokens.refresh_token)
      throw new CodedError(
        "source.not-allowed",
        "the server issued no refresh token; allow it for this client, or ask for the scope that it needs (often offline_access)",
      );
    return JSON.stringify(grantOf(tokens, { clientSecret, refresh: tokens.refresh_token }));
  } catch (error) {
    throw refusal(error, settings);
  }
}

const grantOf = (
  { access_token, expires_in, refresh_token }: oauth.TokenEndpointResponse,
  { clientSecret, refresh }: Pick<Grant, "clientSecret" | "refresh">,
): Grant => ({
  clientSecret,
  refresh: refresh_token ?? refresh,
  access: access_token,
  expires: Date.now() + (expires_in ?? USUAL_S) * 1000,
});

async function refreshed(settings: LibrarySettings, grant: Grant): Promise<Grant> {
  try {
    const server = await serverOf(settings);
    const client: oauth.Client = { client_id: settings.user };
    const answer = await oauth.refreshTokenGrantRequest(
      server,
      client,
      authOf(grant.clientSecret),
      grant.refresh,
      options(),
    );
    return grantOf(await oauth.processRefreshTokenResponse(server, client, answer), grant);
  } catch (error) {
    throw refusal(error, settings);
  }
}

/** What an authorization server said, as a code. */
function refusal(error: unknown, { issuer }: LibrarySettings): unknown {
  if (error instanceof CodedError) return error;
  const { host } = new URL(issuer!);
  if (error instanceof oauth.AuthorizationResponseError)
    return new CodedError(
      "source.not-allowed",
      `${host} did not authorise it: ${error.error_description ?? error.error}`,
    );
  if (error instanceof oauth.ResponseBodyError) {
    const words = error.error_description ?? error.error;
    return error.error === "invalid_grant"
      ? new CodedError("source.grant-ended", `${host} no longer accepts the grant: ${words}`)
      : new CodedError("source.signin-refused", `${host} refused the client: ${words}`);
  }
  if (error instanceof oauth.WWWAuthenticateChallengeError)
    return new CodedError("source.signin-refused", `${host} refused the client (${error.status})`);
  if (error instanceof oauth.OperationProcessingError || error instanceof oauth.UnsupportedOperationError)
    return new CodedError("source.unreadable", `${host}: ${error.message}`);
  const { message, cause } = error as Error & { cause?: { message?: string } };
  return new CodedError("source.not-reached", `${host}: ${cause?.message || message}`);
}

/** The header of a grant's token; an expired one is replaced, by one of all that use the connection. */
export function grantSignIn({ settings, secret, renew }: Connection): (again: boolean) => Promise<string> {
  let grant = grantSecret.parse(JSON.parse(secret));
  const valid = (one: Grant) => one.expires - EARLY_MS > Date.now();
  return async (again) => {
    if (again || !valid(grant)) {
      const refused = grant.access;
      const next = async (stored: string): Promise<string> => {
        const now = grantSecret.parse(JSON.parse(stored));
        return now.access !== refused && valid(now) ? stored : JSON.stringify(await refreshed(settings, now));
      };
      grant = grantSecret.parse(JSON.parse(renew ? await renew(next) : await next(JSON.stringify(grant))));
    }
    return `Bearer ${grant.access}`;
  };
}
