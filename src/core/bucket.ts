/** Where a bucket of S3-compatible storage is, and how it is spoken to. */
export interface BucketPlace {
  /** An origin, such as `https://s3.region.example`. */
  readonly endpoint: string;
  readonly region: string;
  readonly bucket: string;
  /** Goes before every name; empty, or ends with a slash. */
  readonly prefix: string;
  /** The bucket in the path and not in the host's name. */
  readonly pathStyle: boolean;
  readonly storageClass: string | null;
  readonly accessKeyId: string;
}
