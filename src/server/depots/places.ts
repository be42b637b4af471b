import type { BucketPlace } from "@/core/bucket";
import { CodedError } from "@/core/codes";
import type { DepotId } from "@/core/ids";
import type { Depot } from "@/db/depots/depots";
import { LocalFolder } from "@/store/places/local-folder";
import type { Place } from "@/store/places/place";
import { S3Bucket } from "@/store/places/s3-bucket";
import type { Secrets } from "@/store/seal/secrets";

export const depotSecretContext = (depotId: DepotId): string => `depot ${depotId}`;

/** The places of depots. One is made for each and kept: a bucket's connections serve the next call too. */
export class Places {
  private readonly kept = new Map<string, { readonly of: string; readonly place: Place }>();

  constructor(private readonly secrets: Secrets) {}

  of(depot: Depot): Place {
    const of = JSON.stringify([depot.kind, depot.path, depot.settings, depot.secret?.toString("hex")]);
    const known = this.kept.get(depot.id);
    if (known?.of === of) return known.place;
    const place = this.make(depot);
    this.kept.set(depot.id, { of, place });
    return place;
  }

  private make(depot: Depot): Place {
    if (depot.kind !== "s3") return new LocalFolder(depot.path, depot.id);
    if (!depot.secret) throw new CodedError("depot.signin-refused", `${depot.name} has no secret access key`);
    const secret = this.secrets.unseal(depot.secret, depotSecretContext(depot.id)).toString("utf8");
    return new S3Bucket(depot.settings as BucketPlace, secret);
  }
}
