/** What the tests use of this package, which has no types of its own. */
declare module "oidc-provider" {
  import type { RequestListener } from "node:http";

  export default class Provider {
    constructor(issuer: string, configuration: object);
    callback(): RequestListener;
  }
}
