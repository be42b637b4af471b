declare module "s3rver" {
  interface Options {
    readonly address: string;
    readonly port: number;
    readonly silent: boolean;
    readonly directory: string;
    readonly configureBuckets: readonly { readonly name: string; readonly configs: readonly string[] }[];
  }
  export default class S3rver {
    constructor(options: Options);
    run(): Promise<{ readonly address: string; readonly port: number }>;
    close(): Promise<void>;
  }
}
