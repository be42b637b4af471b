/** Extended attributes of what a recovery point of a mailbox contains. */
/** Of a message: its keywords (RFC 8621, section 4.1.1), separated by spaces. */
export const KEYWORDS = "user.jmap.keywords";
/** Of a folder: what it is for (RFC 8621, section 2; `calendar` and `addressbook`, and `calendars` and `contacts` above them). */
export const ROLE = "user.mail.role";
/** Of a folder whose name cannot be the name of a file: the name in UTF-8. */
export const NAME = "user.mail.name";
/** Of a calendar entry or contact: its UID. */
export const UID = "user.dav.uid";
/** Of a calendar entry or contact: what it is called. */
export const TITLE = "user.dav.title";
/** Of a calendar entry: when it begins, as RFC 5545 writes it. */
export const START = "user.dav.start";
