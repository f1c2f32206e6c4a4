# Sets a forecaster up, or brings it up to date: the service that answers the gate, and the
# nightly model.
set -e
echo "setting up $BRICKROW_SERVER for $SITE"
package install frost-model
mkdir -p /srv/forecast
echo "ok forecast of $SITE" > /srv/forecast/alive
cat > /etc/forecast.conf <<END
site = $SITE
readings = $READINGS
END
for part in slopes winds snow; do
  echo "reading the last $part"
  sleep 1
done
service forecast start 8080 /srv/forecast
echo "30 2 * * * frost-model --site $SITE" | crontab -
result forecast "$SITE-$(sha256sum < /etc/forecast.conf | cut -c1-6)"
