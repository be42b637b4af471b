import { readFileSync } from "node:fs";
import { basename, resolve } from "node:path";
import type { Command } from "commander";
import type { BucketPlace } from "@/core/bucket";
import { CodedError } from "@/core/codes";
import type { Depot } from "@/db/depots/depots";
import { LocalFolder } from "@/store/places/local-folder";
import type { Place } from "@/store/places/place";
import { S3Bucket } from "@/store/places/s3-bucket";

/** A depot as an operator names it: a folder, or the address of a bucket. */
export interface NamedPlace extends Pick<Depot, "kind" | "path" | "settings"> {
  readonly place: Place;
  /** A bucket's secret access key. */
  readonly secret: string | null;
  /** What it may be called. */
  readonly wish: string;
}

export interface PlaceOptions {
  readonly depot: string;
  readonly region?: string;
  readonly accessKey?: string;
  readonly secretFile?: string;
  readonly hostStyle?: boolean;
}

/** Adds to a command how a depot is named. */
export const withDepot = (command: Command): Command =>
  command
    .requiredOption(
      "--depot <place>",
      "its folder, or the address of its bucket: https://server/bucket/prefix/",
    )
    .option("--region <region>", "region of the bucket")
    .option("--access-key <id>", "access key of the bucket")
    .option("--secret-file <file>", "file with its secret access key")
    .option("--host-style", "the bucket stands in the host's name");

/** Throws `request.invalid` for a bucket of which something is missing. */
export function namedPlace(options: PlaceOptions): NamedPlace {
  if (!/^https?:\/\//.test(options.depot)) {
    const path = resolve(options.depot);
    return {
      kind: "folder",
      path,
      settings: {},
      place: new LocalFolder(path),
      secret: null,
      wish: basename(path),
    };
  }
  const { region, accessKey, secretFile, hostStyle = false } = options;
  if (!region || !accessKey || !secretFile)
    throw new CodedError("request.invalid", "a bucket wants --region, --access-key and --secret-file too");
  const url = new URL(options.depot);
  if (url.username || url.password || url.search || url.hash)
    throw new CodedError(
      "request.invalid",
      "the address of a bucket is https://server/bucket/prefix/; credentials go into --access-key and --secret-file",
    );
  const [bucket, ...below] = url.pathname.split("/").filter(Boolean);
  if (!bucket)
    throw new CodedError("request.invalid", "the address ends with the bucket: https://server/bucket/");
  const secret = readFileSync(secretFile, "utf8").trim();
  const settings: BucketPlace = {
    endpoint: url.origin,
    region,
    bucket,
    prefix: below.map((part) => `${part}/`).join(""),
    pathStyle: !hostStyle,
    storageClass: null,
    accessKeyId: accessKey,
  };
  return {
    kind: "s3",
    path: `${settings.endpoint}/${bucket}/${settings.prefix}`,
    settings,
    place: new S3Bucket(settings, secret),
    secret,
    wish: bucket,
  };
}
