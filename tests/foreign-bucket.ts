import S3rver from "s3rver";
import type { BucketPlace } from "@/core/bucket";
import { freshFolder } from "./depot";

/** A server of the S3 protocol from npm, on loopback, with one bucket and its one key. */
export interface ForeignBucket {
  readonly place: BucketPlace;
  readonly secret: string;
  stop(): Promise<void>;
}

export async function startForeignBucket(bucket: string): Promise<ForeignBucket> {
  const server = new S3rver({
    address: "127.0.0.1",
    port: 0,
    silent: true,
    directory: freshFolder("s3"),
    configureBuckets: [{ name: bucket, configs: [] }],
  });
  const { port } = await server.run();
  return {
    place: {
      endpoint: `http://127.0.0.1:${port}`,
      region: "us-east-1",
      bucket,
      prefix: "deep/",
      pathStyle: true,
      storageClass: null,
      accessKeyId: "S3RVER",
    },
    secret: "S3RVER",
    stop: () => server.close(),
  };
}
