# Lets a forecaster finish the bulletin it is at.
echo "finishing what is under way on $BRICKROW_SERVER"
sleep 2
