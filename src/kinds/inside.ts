/** What the API shows of items that are more than files. */

export { databaseCatalog, databaseTable } from "./database/browse";
export { insideGuest } from "./guest/browse";
export { parseApart } from "./mail/apart";
export {
  ITEM_KINDS,
  itemKindOf,
  type ListedMessage,
  listMessages,
  mailFolders,
  messageBytes,
  type PointFolder,
  positionOf,
  searchMessages,
} from "./mail/browse";
export { parseMessageSearch } from "./mail/search";
