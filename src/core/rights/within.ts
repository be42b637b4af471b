/** Whether a path is a folder or lies below it. Both begin with `/` and have neither `.`, `..` nor a slash at the end. */
export const within = (folder: string, path: string): boolean =>
  folder === "/" || path === folder || path.startsWith(`${folder}/`);
