/**
 * What writes moments by the clock of a zone. Formatters are kept for each zone: to make one takes a hundred times as long
 * as to use it. The function that is made throws a RangeError for a zone that does not exist.
 */
export function zoned(
  locale: string,
  options: Omit<Intl.DateTimeFormatOptions, "timeZone">,
): (moment: Date, zone: string) => string {
  const kept = new Map<string, Intl.DateTimeFormat>();
  return (moment, zone) => {
    let formatter = kept.get(zone);
    if (!formatter) {
      formatter = new Intl.DateTimeFormat(locale, { ...options, timeZone: zone });
      kept.set(zone, formatter);
    }
    return formatter.format(moment);
  };
}
