/** Items of mailboxes one after another in one file. */
export const JOINED_FORMATS = ["mbox", "ics", "vcf"] as const;
/** An image of one disk. */
export const IMAGE_FORMATS = ["qcow2"] as const;
/** What a basket can be downloaded as. */
export const ARCHIVE_FORMATS = ["zip", "tar", ...JOINED_FORMATS, ...IMAGE_FORMATS] as const;
